"""Exercises about a long text: what is shown, where the needed parts stand, what is refused, and what is told."""

import json
import shutil

import pytest
from conftest import STANDIN
from exercises import grader, write_exercise

from kettlefield.campaign.prompts import render_exercise
from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.grading.claims import claim_faults
from kettlefield.grading.fairness import paper_faults
from kettlefield.plan.tables import PromptingTable
from kettlefield.suite.loader import find_suite

RULES = """# Rules

## 1. Words
A call is a stay.

## 2. Prices
### 2.1 Water
Each cubic metre costs @@water=265@@ pence.

### 2.2 Code
```text
## 3. Not a heading
```

## 3. Thanks
To all.
"""
REFER = {"text": "rules.md", "needed": ["### 2.1 Water"]}
SPEC = {
    "kind": "refer",
    "refer": REFER,
    "entry": "water",
    "check": [{"kind": "calls", "name": "c", "function": "water", "cases": "cases.json"}],
}
FILES = {
    "../texts/rules.md": RULES,
    "prompt.md": "Write `water(metres)`, as the rules have it. `prices` lies beside it as `prices.py`.\n",
    "answer/answer.py": "import prices\n\ndef water(metres):\n    return metres * prices.WATER\n",
    "beside/prices.py": "WATER = 265\n",
    "cases.json": [{"args": [n], "expect": 265 * n, "by_hand": True} for n in (0, 1, 2)],
}


def test_the_text_stands_before_the_prompt_and_the_needed_part_is_found_in_it(tmp_path):
    exercise = write_exercise(tmp_path / "water", SPEC, FILES)
    assert exercise.refer_to.section("### 2.1 Water") == "### 2.1 Water\nEach cubic metre costs 265 pence.\n\n"
    asked = render_exercise(exercise, PromptingTable()).messages[-1]["content"]
    assert asked.startswith("`rules.md`:\n\n````markdown\n# Rules") and asked.count("````") == 2
    assert asked.index("To all.") < asked.index("Write `water(metres)`")
    shorter = SPEC | {"refer": REFER | {"without": ["## 1. Words", "### 2.2 Code"]}}
    text = write_exercise(tmp_path / "short", shorter, FILES).refer_to.text
    assert (
        text == "# Rules\n\n## 2. Prices\n### 2.1 Water\nEach cubic metre costs 265 pence.\n\n## 3. Thanks\nTo all.\n"
    )
    dearer = {"base": 300, "low": 300, "high": 400, "step": 10}
    varied = write_exercise(tmp_path / "varied", SPEC | {"vary": {"water": dearer}}, FILES)
    assert "costs 300 pence" in varied.refer_to.text


@pytest.mark.parametrize(
    ("refer", "said"),
    [
        (REFER | {"text": "../rules.md"}, "leaves the folder texts"),
        (REFER | {"text": "others.md"}, "no such file"),
        (REFER | {"needed": []}, "needs no section"),
        (REFER | {"needed": ["### 2.9 Wine"]}, '"### 2.9 Wine" stands 0 times'),
        (REFER | {"needed": ["2.1 Water"]}, "stands 0 times"),
        (REFER | {"needed": ["## 3. Not a heading"]}, "stands 0 times"),
        (REFER | {"without": ["## 2. Prices"]}, '"### 2.1 Water" stands 0 times'),
    ],
)
def test_a_text_or_a_heading_that_is_not_there_is_named(tmp_path, refer, said):
    with pytest.raises(InputError, match=said):
        write_exercise(tmp_path / "water", SPEC | {"refer": refer}, FILES)


def test_the_table_and_the_kind_belong_together_and_a_heading_stands_once(tmp_path):
    with pytest.raises(InputError, match="has no text to refer to"):
        write_exercise(tmp_path / "one", {k: v for k, v in SPEC.items() if k != "refer"}, FILES)
    with pytest.raises(InputError, match='is for kind "refer", not "write"'):
        write_exercise(tmp_path / "two", SPEC | {"kind": "write"}, FILES)
    with pytest.raises(InputError, match="stands 2 times"):
        write_exercise(tmp_path / "three", SPEC, FILES | {"../texts/rules.md": RULES + "\n### 2.1 Water\nFree.\n"})


def test_a_library_beside_the_answer_is_ours_and_the_prompt_must_name_it(tmp_path):
    exercise = write_exercise(tmp_path / "water", SPEC, FILES)
    assert grader().grade_files(exercise, exercise.answer).outcome is Outcome.PASSED
    own = {"answer.py": exercise.answer["answer.py"], "prices.py": "WATER = 1\n"}
    assert grader().grade_files(exercise, own).outcome is Outcome.PASSED
    silent = write_exercise(tmp_path / "silent", SPEC, FILES | {"prompt.md": "Write `water(metres)`.\n"})
    assert any('never names the file "prices.py"' in fault for fault in paper_faults(silent))


def test_a_library_beside_the_text_serves_every_exercise_that_names_it(tmp_path):
    shared = {name: content for name, content in FILES.items() if name != "beside/prices.py"}
    shared["../texts/prices.py"] = "WATER = 265\n"
    exercise = write_exercise(tmp_path / "water", SPEC | {"refer": REFER | {"library": "prices.py"}}, shared)
    assert grader().grade_files(exercise, exercise.answer).outcome is Outcome.PASSED
    with pytest.raises(InputError, match="leaves the folder texts"):
        write_exercise(tmp_path / "water", SPEC | {"refer": REFER | {"library": "../prices.py"}}, shared)


def test_claims_may_stand_on_the_text_and_each_needed_part_must_hold_one(tmp_path):
    decoy = {"decoys/cheap/answer.py": "def water(metres):\n    return metres * 200\n"}
    spec = SPEC | {"decoy": [{"name": "cheap", "outcome": "wrong-answer", "mistake": "A wrong price."}]}
    claimed = spec | {"claim": [{"says": "costs 265 pence", "broken_by": "cheap"}]}
    assert list(claim_faults(write_exercise(tmp_path / "one", claimed, FILES | decoy))) == []
    elsewhere = spec | {"claim": [{"says": "as the rules have it", "broken_by": "cheap"}]}
    faults = list(claim_faults(write_exercise(tmp_path / "two", elsewhere, FILES | decoy)))
    assert faults == ['no claim rests on "### 2.1 Water", which is needed']


def test_a_campaign_tells_where_the_needed_parts_stood_and_a_filled_context_moves_them(make_plan, run_main, tmp_path):
    built_in = find_suite("berthdesk", tmp_path.parent)
    mine = tmp_path / "desk"
    for name in ("texts", "wire-tide-readings", "rules-may-leave", "quaylib-split-bill", "fare-quote"):
        shutil.copytree(built_in / name, mine / name)
    shutil.copy(built_in / "suite.toml", mine)
    tables = {"grading": "concurrent_trials = 4\ncontext_fill = [0.9]"}
    plan = make_plan(candidates=(("q8_0", "context = 16384"),), tables=tables, command=[*STANDIN, "--suite", str(mine)])
    plan.write_text(plan.read_text().replace('suite = "berthdesk"', 'suite = "desk"'))
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    record = plan.parent / "record.db"
    shown = json.loads(run_main("compare", record, "--part", "refer", "--json").out)
    rows = {(one["exercise"], one["context_fill"]): one for one in shown["exercises"]}
    assert len(rows) == 6 and all(one["trials"] == 1 for one in rows.values())
    for name in ("wire-tide-readings", "rules-may-leave", "quaylib-split-bill"):
        alone, full = rows[name, 0.0], rows[name, 0.9]
        moved = full["prompt_tokens"] - alone["prompt_tokens"]
        assert moved > 2000 and 0.7 * 16384 < full["prompt_tokens"] <= 0.9 * 16384
        assert full["needed_at_tokens"] == pytest.approx([at + moved for at in alone["needed_at_tokens"]], abs=1)
        assert all(at == pytest.approx(token / full["prompt_tokens"]) for at, token in zip(
            full["needed_at"], full["needed_at_tokens"], strict=True))  # fmt: skip
    assert {one["group"] for one in shown["by_place"] if not one["context_fill"]} == {"second third", "several places"}
    assert {one["group"] for one in shown["by_length"]} == {"under 32,000 characters"}
    said = run_main("compare", record, "--part", "refer").out
    assert "needed parts at" in said and "90% full" in said
    nothing = run_main("compare", record, "--part", "refer", "--only", "none@*")
    assert nothing.code == 2 and "matches no candidate" in nothing.err
