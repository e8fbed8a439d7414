"""Tables that are too wide come in parts; notes keep their breaks only where there is room; CSV holds no formulas."""

import io

import pytest
from rich.console import Console
from rich.text import Text

from kettlefield.cli.console import (
    Once,
    candidate_name,
    chosen,
    make_table,
    print_csv,
    print_note,
    print_table,
    safe,
)
from kettlefield.core.errors import InputError


def console(width):
    return Console(file=io.StringIO(), width=width, color_system=None, markup=False, highlight=False)


def printed(width, table):
    on = console(width)
    print_table(on, table)
    return [line.rstrip() for line in on.file.getvalue().splitlines() if line.strip(" -")]


def wide_table():
    table = make_table("candidate", ">solved", ">pass rate", "95 % interval", ">peak memory", "other outcomes")
    table.add_row(
        safe("marram@q4_k_m"), "31 of 32", "0.97", "0.84 to 0.99", "1.31 GiB", "1 wrong-answer, 2 looping, 1 crashed"
    )
    table.add_row(safe("marram@q2_k"), "9 of 32", "0.28", "0.14 to 0.45", "1.05 GiB", "none")
    return table


def test_with_room_it_is_one_table():
    lines = printed(140, wide_table())
    assert len(lines) == 3 and lines[0].split()[0] == "candidate" and lines[0].endswith("other outcomes")


def test_a_last_column_of_words_folds_before_the_table_is_parted():
    lines = printed(100, wide_table())
    assert lines[0].endswith("other outcomes") and len(lines) == 4  # one line more: the words that folded
    assert "crashed" in lines[2] and "marram" not in lines[2]


@pytest.mark.parametrize("width", [40, 60, 80])
def test_without_room_it_comes_in_parts_each_led_by_the_name(width):
    lines = printed(width, wide_table())
    assert max(map(len, lines)) <= width
    heads = [line for line in lines if line.lstrip().startswith("candidate")]
    assert len(heads) > 1
    assert sum(line.count("marram@q4_k_m") for line in lines) == len(heads)
    joined = " ".join(lines)
    for head in ("solved", "pass rate", "95 % interval", "peak memory"):
        assert joined.count(head) == 1  # every column once, none folded
    for figure in ("31 of 32", "0.97", "0.84 to 0.99", "1.31 GiB"):
        assert figure in joined


def test_columns_keep_their_alignment_in_every_part():
    lines = printed(40, wide_table())
    start = next(number for number, line in enumerate(lines) if line.endswith("pass rate") or "pass rate" in line)
    ends = {len(line) for line in lines[start : start + 3] if line.rstrip().endswith(("pass rate", "0.97", "0.28"))}
    assert len(ends) <= 1


def test_a_single_row_without_columns_to_spare_is_printed_whole():
    table = make_table("candidate", "note")
    table.add_row("m@f16", Text("a note of several words that is longer than the window is wide"))
    lines = printed(30, table)
    assert max(map(len, lines)) <= 30 and "wide" in " ".join(lines)


def test_a_note_is_broken_by_hand_only_where_there_is_room():
    for width, breaks in ((150, 1), (100, 0)):
        on = console(width)
        print_note(on, "one line that was broken by hand\nand goes on here")
        assert on.file.getvalue().strip().count("\n") == breaks


def test_names_are_said_once_and_marked():
    once = Once()
    assert [once(name).plain for name in ("a", "a", "b", "a")] == ["a", "", "b", "a"]
    assert candidate_name("m@f16", reference=True, baseline=False).plain == "m@f16*"
    assert candidate_name("m@big", reference=False, baseline=True).plain == "m@big (baseline)"
    assert "\x1b" not in candidate_name("m\x1b[31m", reference=False, baseline=False).plain


def test_csv_is_flat_and_holds_nothing_that_a_spreadsheet_would_run(capsys):
    print_csv(
        [{"candidate": "=1+1", "pass_rate": {"value": 0.5, "low": None}, "lost": ["e1", "e2"], "n": 3, "note": "plain"}]
    )
    head, row = capsys.readouterr().out.splitlines()
    assert head == "candidate,lost,n,note,pass_rate.value,pass_rate.low"
    assert row == """'=1+1,"[""e1"", ""e2""]",3,plain,0.5,"""


def test_a_pattern_chooses_candidates_and_one_that_matches_none_names_them():
    class Row:
        def __init__(self, candidate):
            self.candidate = candidate

    rows = [Row("m@f16"), Row("m@q4"), Row("n@q4")]
    assert [row.candidate for row in chosen(rows, "*@q4")] == ["m@q4", "n@q4"]
    assert chosen(rows, None) == rows and chosen([], "x") == []
    with pytest.raises(InputError, match=r'"x\*" matches no candidate.*m@f16, m@q4, n@q4'):
        chosen(rows, "x*")
