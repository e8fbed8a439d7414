"""Files before a task: how much of the context they take, what is refused, and what a campaign says of them."""

import json

import pytest
from exercises import write_exercise

from kettlefield.campaign.filler_files import project_files
from kettlefield.campaign.filling import READ, Filling, filler_text
from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.plan.tables import GradingTable
from kettlefield.record.store import Record
from kettlefield.results.context_fill import context_fills
from kettlefield.results.frames import every_trial_frame, trials_frame
from kettlefield.server.exchange import Ask
from kettlefield.suite.loader import find_suite, load_suite

CHAT = Ask(
    messages=({"role": "system", "content": "Be brief."}, {"role": "user", "content": "Sum it." * 10}), sampling={}
)


def filling(*, as_turns=False, context=2000):
    text = filler_text(GradingTable(), (), None, 12_000)
    return Filling(text=text, context=context, as_turns=as_turns, chars_per_token=4.0, task_chars_per_token=4.0)


def chars(ask):
    return sum(len(message["content"]) for message in ask.messages)


@pytest.mark.parametrize("as_turns", [False, True])
def test_files_and_task_together_take_the_share_and_the_task_stays_last(as_turns):
    for fill in (0.3, 0.5, 0.9):
        asked = filling(as_turns=as_turns).before(CHAT, fill)
        assert (fill - 0.06) * 8000 < chars(asked) <= fill * 8000
        assert asked.messages[0] == CHAT.messages[0] and asked.messages[-1]["content"].endswith("Sum it." * 10)
        files = "".join(one["content"] for one in asked.messages)
        assert files.count("```") % 2 == 0  # a block that was cut is closed
        roles = [one["role"] for one in asked.messages]
        assert roles == (
            ["system", *["user", "assistant"] * ((len(roles) - 2) // 2), "user"] if as_turns else ["system", "user"]
        )
        assert (READ in files) is as_turns
    # a task that is known to be dense leaves less room
    assert chars(filling().before(CHAT, 0.5, 600)) == pytest.approx(0.48 * 8000 - 4 * 600, abs=400)
    # the same files stand before every task, so that a prompt cache may keep them
    short, long = (filling().before(CHAT, fill).messages[1]["content"] for fill in (0.3, 0.9))
    assert long.startswith(short[:1500])
    plain = Ask(messages=({"role": "prompt", "content": "def total("},), sampling={}, is_chat=False)
    assert filling(as_turns=True).before(plain, 0.5).messages[-1]["content"].endswith("The task:\n\ndef total(")
    assert filling().before(CHAT, 0.02) is CHAT  # it takes as much by itself


def test_built_in_files_hold_no_answer_and_a_users_own_that_do_are_refused(tmp_path):
    suite = load_suite(CHECKS, find_suite("berthdesk", tmp_path), check_lock=False)
    built_in = filler_text(GradingTable(), (), tmp_path, 100_000)
    (tmp_path / "all.md").write_text(built_in)
    assert filler_text(GradingTable(fill_from=("all.md",)), suite.exercises, tmp_path, 90_000)
    names = [name for name, _ in zip(project_files(), range(200), strict=False)]
    assert len(set(names)) == 200
    spec = {"check": [{"kind": "program", "name": "c", "cases": "cases.json"}]}
    answer = "total_pence = 0\nfor fare in fares:\n    total_pence += fare.pence\nprint(total_pence)\n"
    files = {"answer/main.py": answer, "cases.json": [{"stdin": "", "stdout": ""}]}
    exercise = write_exercise(tmp_path / "sums", spec | {"file": "main.py"}, files)
    (tmp_path / "theirs.py").write_text("import sys\n\n" + answer.replace("    ", "\t"))
    (tmp_path / "bad.bin").write_bytes(b"\xff\x00")
    for pattern, said in (
        ("theirs.py", "holds lines of the answer to sums"),
        ("bad.bin", "not text in UTF-8"),
        ("none/*", 'fill_from "none/\\*" matches no file'),
        ("all.md", "are needed to fill the context"),
    ):
        with pytest.raises(InputError, match=said):
            filler_text(GradingTable(fill_from=(pattern,)), [exercise], tmp_path, 150_000)


CRITERIA = """
[[criterion]]
measure = "pass_rate"
at_fill = 0.5
at_least = 0.01
[[criterion]]
measure = "pass_rate"
at_fill = 0.5
no_worse_than = "empty context"
margin = 0.9
[[criterion]]
measure = "pass_rate"
at_fill = 0.5
no_worse_than = "reference"
margin = 0.9
"""


def test_a_campaign_asks_the_suite_again_at_each_fill_and_criteria_are_about_one(make_plan, run_main):
    tables = {"grading": "concurrent_trials = 4\ncontext_fill = [0, 0.5]", "speed": "requests = 0"}
    head = "context = 8192"
    plan = make_plan(
        candidates=(("q8_0", f"reference = true\n{head}"), ("q4_k_m", head)), tables=tables, criteria=CRITERIA
    )
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    record = Record.open(plan.parent / "record.db")
    every, alone = every_trial_frame(record), trials_frame(record)
    rows = context_fills(record)
    assert len(every) == 2 * len(alone) and set(every["context_fill"].dropna()) == {0.5}
    assert [(row.candidate.partition("@")[2], row.fill) for row in rows] == [
        ("q8_0", None), ("q8_0", 0.5), ("q4_k_m", None), ("q4_k_m", 0.5),
    ]  # fmt: skip
    empty, full = rows[:2]
    assert full.trials == empty.trials and empty.difference is None and full.difference is not None
    assert 0.4 * 8192 < full.prompt_tokens <= 0.5 * 8192 < empty.prompt_tokens * 10 and full.ttft_s > empty.ttft_s
    assert full.peak_bytes > 0
    shown = json.loads(run_main("compare", plan.parent / "record.db", "--part", "fill", "--json").out)
    assert [one["context_fill"] for one in shown["fills"]] == [0.0, 0.5, 0.0, 0.5]
    # what is compared elsewhere is the exercise alone
    figures = json.loads(run_main("compare", plan.parent / "record.db", "--json").out)["candidates"]
    assert [one["trials"] for one in figures] == [empty.trials] * 2
    verdicts = json.loads(run_main("decide", plan.parent / "record.db", "--json").out)["verdicts"]
    assert all(one["at_fill"] == 0.5 for verdict in verdicts for one in verdict["criteria"])
    assert not any("not measured" in one["reason"] for verdict in verdicts for one in verdict["criteria"])
    again = run_main("qualify", plan)
    assert again.code == 0 and len(every_trial_frame(Record.open(plan.parent / "record.db"))) == len(every)


@pytest.mark.parametrize(
    ("grading", "criterion", "said"),
    [
        ("context_fill = [1.5]", "", "context_fill holds 1.5"),
        ("context_fill = [0.9]", "", "context_fill 0.9 leaves 205 of 2,048 tokens for a reply, max_tokens is 700"),
        ("", 'measure = "pass_rate"\nat_fill = 0.5\nat_least = 0.5', "nothing is asked at a context fill of 0.5"),
        (
            "context_fill = [0.5]",
            'measure = "peak_bytes"\nat_fill = 0.5\nat_most = "1 GiB"',
            "at_fill = 0.5 is not for",
        ),
        ("context_fill = [0.5]", 'measure = "pass_rate"\nno_worse_than = "empty context"\nmargin = 0.1', "at no fill"),
        ('context_fill = [0.5]\nfill_from = ["none/*"]', "", 'fill_from "none/*" matches no file'),
    ],
)
def test_what_cannot_be_is_refused_before_anything_starts(make_plan, run_main, grading, criterion, said):
    head = f"[[criterion]]\n{criterion}\n" if criterion else ""
    plan = make_plan(tables={"grading": grading}, criteria=head)
    done = run_main("qualify", plan)
    assert done.code == 2 and said in done.err, done.err
    assert not (plan.parent / "record.db").exists()
