"""What stands out at a first look, and the plan that is drafted for one."""

import pytest
from records import PASSED, WRONG, Writer

from kettlefield.core.outcome import Outcome
from kettlefield.results.first_look import MOST_FINDINGS, findings, looks
from kettlefield.views.first_look_view import first_look_view

CONTEXT = {"server": {"context": 2048}}
BUDGET = 10**9
POINT = {"prompt_tokens": 256, "reply_tokens": 8}


@pytest.fixture
def writer(tmp_path):
    return Writer(tmp_path / "look.db", exercises=12, facts={"decode_ceiling_tps": 400.0})


def look_of(writer, name, outcomes, *, rate=300.0, peak=1000, wrong_style=()):
    """One candidate with an outcome for each exercise."""
    ids = writer.candidate(name, settings=CONTEXT)
    writer.record.save_preflight(ids[1], {"wrong_style": list(wrong_style)})
    for _ in range(6):
        writer.timed(ids, "latency", POINT, rate=rate)
    writer.phase(ids, "answers", peak)
    for number, outcome in enumerate(outcomes):
        writer.trial(ids, number, outcome)


GOOD = [PASSED] * 10 + [WRONG] * 2


def said(writer, left_out=()):
    return findings(looks(writer.record), left_out, BUDGET)


def test_where_nothing_is_wrong_it_says_so_with_what_was_solved(writer):
    look_of(writer, "gull@f16", GOOD)
    look_of(writer, "gull@q4", GOOD)
    assert said(writer) == ("Nothing stands out; solved: 10 of 12 (gull@f16), 10 of 12 (gull@q4).",)


@pytest.mark.parametrize(
    ("other", "words"),
    [
        ({"outcomes": [Outcome.LOOPING] * 2 + GOOD[2:]}, "repeat themselves without end: gull@q4 (17%)"),
        ({"outcomes": [Outcome.CUT_OFF] * 3 + GOOD[3:]}, "the token cap cut off, for want of which they may have failed: gull@q4 (25%)"),
        ({"outcomes": [Outcome.OVER_CONTEXT, *GOOD[1:]]}, "too small for some prompts: gull@q4 (8% at 2,048 tokens)"),
        ({"wrong_style": ["the reply is empty"]}, "gull@q4 (the reply is empty); set [prompting] style"),
        ({"rate": 190.0}, "less than half of what memory bandwidth allows: gull@q4 (47.5%)"),
        ({"peak": 2 * BUDGET}, "Takes more than 954 MiB: gull@q4 (1.86 GiB)"),
        ({"outcomes": [WRONG] * 10 + GOOD[10:]}, "less than its reference level, beyond chance: gull@q4 (10 fewer of 12)"),
    ],
)  # fmt: skip
def test_what_stands_out_is_named_with_its_figure_and_no_other(writer, other, words):
    look_of(writer, "gull@f16", GOOD)
    look_of(writer, "gull@q4", **({"outcomes": GOOD} | other))
    (only,) = said(writer)
    assert words in only and "gull@f16" not in only


def test_a_small_difference_and_a_rate_just_above_half_are_nothing(writer):
    look_of(writer, "gull@f16", GOOD)
    look_of(writer, "gull@q4", [WRONG] * 3 + GOOD[3:], rate=210.0)
    assert said(writer)[0].startswith("Nothing stands out")


def test_three_sentences_at_the_most_the_gravest_first_and_those_not_come_to_are_no_failures(writer):
    look_of(writer, "gull@f16", [Outcome.LOOPING] * 12, rate=100.0, peak=2 * BUDGET, wrong_style=["the reply is empty"])
    ids = writer.candidate("tern@f16", settings=CONTEXT)
    writer.record.save_note("its log is empty", ids[0])
    lines = said(writer, ["big.gguf: needs 3 GiB"])
    assert len(lines) == MOST_FINDINGS
    assert lines[0] == "Does not fit: big.gguf: needs 3 GiB." and lines[1].startswith("Asked in a form")
    view = first_look_view(writer.record, [], BUDGET, next_steps=["Go on."])
    assert view.document["decided"] is False and len(view.document["candidates"]) == 2
    assert [part.text for part in view.parts[-2:]] == ["Nothing was decided: no criteria were set.", "Go on."]
