"""Tables are values: rendered in parts where they are too wide, once built for terminal and report; CSV holds no formulas."""

import io

import pytest
from records import PASSED, WRONG, Writer
from rich.console import Console

from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.plan.criteria import decide
from kettlefield.views.answers_view import groups_view
from kettlefield.views.comparison_view import comparison_view
from kettlefield.views.material import read_material
from kettlefield.views.memory_view import memory_view
from kettlefield.views.report_page import build_sections
from kettlefield.views.speed_view import speed_view
from kettlefield.views.table import (
    Align,
    Column,
    Words,
    candidate_text,
    chosen,
    count,
    duration,
    number,
    percent,
    rate,
    share,
    signed,
    signed_size,
    size,
    table,
    words,
)
from kettlefield.views.terminal import print_csv, print_parts, print_table


def console(width):
    return Console(file=io.StringIO(), width=width, color_system=None, markup=False, highlight=False)


def printed(width, shown):
    on = console(width)
    print_table(on, shown)
    return [line.rstrip() for line in on.file.getvalue().splitlines() if line.strip(" -")]


def wide_table():
    return table(
        "Wide",
        [
            words("candidate"),
            Column(name="solved", align=Align.RIGHT),
            share("pass rate"),
            words("95 % interval"),
            size("peak memory"),
            words("other outcomes"),
        ],
        [
            ("marram@q4_k_m", "31 of 32", 0.97, "0.84 to 0.99", 1.31 * 2**30, "1 wrong-answer, 2 looping, 1 crashed"),
            ("marram@q2_k", "9 of 32", 0.28, "0.14 to 0.45", 1.05 * 2**30, "none"),
        ],
    )


def test_with_room_it_is_one_table():
    lines = printed(140, wide_table())
    assert lines[0] == "Wide" and len(lines) == 4
    assert lines[1].split()[0] == "candidate" and lines[1].endswith("other outcomes")


def test_a_last_column_of_words_folds_before_the_table_is_parted():
    lines = printed(92, wide_table())
    assert lines[1].endswith("other outcomes") and len(lines) == 5  # one line more: the words that folded
    assert "crashed" in lines[3] and "marram" not in lines[3]


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


def test_figures_of_one_unit_stand_in_line_and_their_intervals_too():
    def of(value, low, high):
        return Estimate(value=value, low=low, high=high, n=4)

    rows = [("a", of(0.5, 0.25, 0.75), 2.19, 2**30), ("b", None, 0.945, 2**20), ("c", "disturbed", 1833.0, 2**30)]
    shown = table("t", [words("candidate"), rate("decode p50"), number("s/solved"), size("peak")], rows)
    head, *lines = printed(90, shown)[1:]
    assert {line.index(".") for line in (lines[0][40:], lines[1][40:])} == {lines[0][40:].index(".")}
    assert lines[2][: head.index("s/solved") + 8].rstrip().endswith("1,833")
    assert "disturbed" in lines[2] and lines[0].endswith("1.00 GiB") and lines[1].endswith("1.00 MiB")
    # with less room columns come closer, and a unit goes below the name
    assert printed(54, shown)[1].split() == ["decode", "p50"] and "tokens/s" in printed(54, shown)[2]


def test_what_a_row_shares_with_the_one_above_is_said_once():
    shown = table(
        "t",
        [words("candidate", once=True), words("verdict", once=True), words("x")],
        [("a", "met", "1"), ("a", "met", "2"), ("b", "met", "3")],
    )
    assert [line.split() for line in printed(80, shown)[2:]] == [["a", "met", "1"], ["2"], ["b", "met", "3"]]


@pytest.mark.parametrize(
    ("column", "value", "text"),
    [
        (count("n"), 1234, "1,234"),
        (count("n"), None, "-"),
        (share("s"), Estimate(value=0.5, low=0.25, high=None, n=4), "0.50 (0.25 to ?)"),
        (signed("d"), Estimate(value=-0.1, low=-0.3, high=0.1, n=4), "-0.10 (-0.30 to +0.10)"),
        (signed("d"), 0.1, "+0.10"),
        (percent("p"), 0.034, "3.4%"),
        (percent("p"), 0.84, "84%"),
        (size("b"), 2**30, "1.00 GiB"),
        (signed_size("b"), -(2**20), "-1.00 MiB"),
        (signed_size("b"), Estimate(value=1024.0, low=0.0, high=None, n=3), "+1.00 KiB (+0 B to ?)"),
        (duration("t"), 0.25, "250 ms"),
        (rate("r"), Estimate(value=10.0, low=9.0, high=11.0, n=3), "10.0 (9.00 to 11.0)"),
        (rate("r"), "disturbed", "disturbed"),  # a word in a figure's place stays a word
    ],
)
def test_a_column_knows_how_its_values_are_written(column, value, text):
    assert column.text(value) == text


def test_words_have_their_tone_and_nothing_of_others_reaches_a_terminal():
    on = console(60)
    print_parts(on, (Words(text="\x1b[31mred", tone="warning"), Words(text="list:", items=("one", "two"))))
    assert on.file.getvalue().splitlines() == ["\\x1b[31mred", "list:", "  one", "  two"]
    assert table("t", [words("a")], []) is None  # a table without rows is not shown


def test_names_are_marked():
    class Row:
        def __init__(self, candidate, *, reference=False, baseline=False):
            self.candidate, self.reference, self.baseline = candidate, reference, baseline

    assert candidate_text(Row("m@f16", reference=True)) == "m@f16*"
    assert candidate_text(Row("m@big", baseline=True)) == "m@big (baseline)"
    rows = [Row("m@f16"), Row("m@q4"), Row("n@q4")]
    assert [row.candidate for row in chosen(rows, "*@q4")] == ["m@q4", "n@q4"]
    assert chosen(rows, None) == rows and chosen([], "x") == []
    with pytest.raises(InputError, match=r'"x\*" matches no candidate.*m@f16, m@q4, n@q4'):
        chosen(rows, "x*")


def test_csv_is_flat_and_holds_nothing_that_a_spreadsheet_would_run(capsys):
    print_csv(
        [{"candidate": "=1+1", "pass_rate": {"value": 0.5, "low": None}, "lost": ["e1", "e2"], "n": 3, "note": "plain"}]
    )
    head, row = capsys.readouterr().out.splitlines()
    assert head == "candidate,pass_rate.value,pass_rate.low,lost,n,note"
    assert row == """'=1+1,0.5,,"[""e1"", ""e2""]",3,plain"""


def test_the_report_and_the_terminal_show_the_same_tables(tmp_path):
    writer = Writer(tmp_path / "record.db", exercises=4, kinds=["write", "repair", "write", "repair"])
    for name, solved in (("m@f16", 4), ("m@q4_k_m", 2)):
        ids = writer.candidate(name)
        for exercise in range(4):
            writer.trial(ids, exercise, PASSED if exercise < solved else WRONG)
        for nth in range(6):
            writer.timed(ids, "latency", {"prompt_tokens": None, "reply_tokens": 11}, first=0.1 + nth / 100)
        for many in (1, 4):
            writer.timed(ids, "closed_loop", {"concurrency": many})
            writer.phase(ids, "closed_loop", 2000 + many, joules=3.0, concurrency=many)
        writer.ended(ids, "closed_loop", counts=[{"concurrency": n, "rate_tps": 90.0} for n in (1, 4)])
        writer.ended(ids, "open_loop", capacity_rps=2.0, fails_at_rps=3.0, tries=[])
        writer.phase(ids, "answers", 3000, joules=12.0)
    sections = build_sections(read_material(writer.record, decide(writer.record)))
    report = {part.title: part for section in sections for part in section.parts if part.kind == "table"}
    views = (
        comparison_view(writer.record, pairs=True),
        speed_view(writer.record),
        memory_view(writer.record),
        groups_view(writer.record, "kind"),
    )
    shown = [part for view in views for part in view.parts if part.kind == "table"]
    assert len(shown) >= 11
    for part in shown:
        same = report[part.title]
        assert (part.columns and [column.head for column in part.columns], part.texts(), part.note) == (
            [column.head for column in same.columns],
            same.texts(),
            same.note,
        ), part.title
