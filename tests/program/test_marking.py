"""Marks: given blind in a terminal and on a sheet, taken back, read in, agreed on, and mixed into a score."""

import json
import os
import pty
import shutil
import sqlite3
import subprocess

import msgspec
import pytest
from playwright.sync_api import sync_playwright
from records import PASSED, WRONG, Writer

from kettlefield.marking.blind_replies import items_of
from kettlefield.marking.marks import standing_marks
from kettlefield.marking.scale import order_of
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record

# a picture of one pixel: enough to be shown
PIXEL = bytes.fromhex(
    "89504e470d0a1a0a0000000d4948445200000001000000010802000000907753de0000000c4944415408d763f8cfc000000003000100"
    "18dd8db00000000049454e44ae426082"
)
PLAN = '[marking]\nweight = 0.5\n[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.1\nconfidence = 0.6\n'
SCORED = '[[criterion]]\nmeasure = "marked_score"\nat_least = 0.3\nconfidence = 0.6\n'


@pytest.fixture
def record(tmp_path):
    """Two levels, four explanations and two pages; the levels agree on two of the explanations."""
    kinds = ["explain"] * 4 + ["page"] * 2 + ["write"]
    writer = Writer(
        tmp_path / "record.db", exercises=7, kinds=kinds, criteria=PLAN + SCORED, guidance="4: all\n0: nothing"
    )
    for name in ("dune@f16", "dune@q4_k_m"):
        ids = writer.candidate(name)
        for number in range(6):
            same = number in (1, 2)
            text = f"tide {number}" + (
                "" if same else f" by <b>{'high' if name.endswith('f16') else 'low'}</b>\x1b[31m"
            )
            good = name.endswith("f16") or same
            pictures = (("phone", PIXEL), ("desktop", PIXEL)) if number == 4 else ()
            writer.trial(ids, number, PASSED if good else WRONG, code=text, pictures=pictures)
        writer.trial(ids, 6, PASSED, code="def tide(): ...")
    writer.record.close()
    return writer.path


def in_terminal(program, record, name, *lines):
    """A sitting at a real terminal: what is shown while the lines are typed."""
    ours, theirs = pty.openpty()
    child = subprocess.Popen(
        [program, "mark", record, "--by", name],
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        env={**os.environ, "TERM": "xterm"},
    )
    os.close(theirs)
    shown = b""
    left = [*lines]
    while True:
        try:
            chunk = os.read(ours, 65536)
        except OSError:
            break
        shown += chunk
        while left and shown.count(b"mark> ") > len(lines) - len(left):
            os.write(ours, left.pop(0).encode() + b"\n")
    assert child.wait(timeout=60) == 0, shown
    os.close(ours)
    return shown.decode(errors="replace")


def test_a_sitting_at_a_terminal_is_blind_and_goes_on_where_it_stopped(program, run_cli, record):
    shown = in_terminal(program, record, "Ines Quine", "3 clear enough", "g", "s", "u", "4", "seven", "9", "q")
    assert "dune" not in shown and "q4_k_m" not in shown and "\x1b[31m" not in shown and "\\x1b[31m" in shown
    assert "4: all" in shown and "berth?" in shown and '"seven" is none of 0-4' in shown and '"9" is none of' in shown
    assert "4 pages are judged by their pictures: mark them on a sheet" in shown
    # six explanations differ, five of them come again; a mark was taken back and given again, one reply was left out
    assert "11 replies, 11 left" in shown and "1 of 11 are marked" in shown
    held = [mark.value for mark in standing_marks(Record.open(record)).values()]
    assert held == [4]
    again = in_terminal(program, record, "Ines Quine", *["2"] * 10)
    assert "11 replies, 10 left" in again and "11 of 11 are marked" in again
    in_terminal(program, record, "Tam Orr", *["2", "3"] * 6)
    told = run_cli("mark", record)
    assert "Ines Quine" in told.out and "the same, shown again" in told.out and told.code == 0
    found = run_cli("mark", record, "--json").json
    pair = next(one for one in found["agreements"] if one["with_whom"] == "Tam Orr")
    assert pair["both"] == 6 and pair["who"] == "Ines Quine"
    # a record that changed after it was signed is noticed: marks are evidence too
    with sqlite3.connect(record) as connection:
        assert connection.execute("SELECT count(*) FROM mark WHERE value IS NULL").fetchone() == (1,)
    connection.close()


def test_a_sheet_is_marked_in_a_browser_and_read_back(run_cli, record, tmp_path):
    sheet, saved = tmp_path / "sheet.html", tmp_path / "marks.json"
    done = run_cli("mark", record, "--by", "Ines Quine", "--sheet", sheet)
    assert done.code == 0 and "15 replies to mark" in done.err
    text = sheet.read_text()
    assert "dune" not in text and "<b>high" not in text and text.count("data:image/png") >= 4
    faults = []
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        page = browser.new_page()
        page.on("console", lambda message: faults.append(message.text))
        page.on("pageerror", lambda error: faults.append(str(error)))
        page.goto(sheet.as_uri())
        for number in range(15):
            page.keyboard.press(str(number % 5))
            page.keyboard.press("n")
        page.locator(".note input").first.fill("3 of <four>")
        assert page.locator("#done").inner_text() == "15 of 15 replies are marked"
        page.reload()  # what was marked is still there
        assert page.locator("#done").inner_text() == "15 of 15 replies are marked"
        with page.expect_download() as loaded:
            page.get_by_role("button", name="Save marks.json").click()
        loaded.value.save_as(saved)
        browser.close()
    assert faults == []
    assert "15 marks by Ines Quine taken in, 0 were there" in run_cli("mark", record, "--read", saved).err
    assert "0 marks by Ines Quine taken in, 15 were there" in run_cli("mark", record, "--read", saved).err
    marks = standing_marks(Record.open(record))
    order = order_of([(i.exercise, i.digest) for i in items_of(Record.open(record), ("explain", "page"))], "Ines Quine")
    assert [marks["Ines Quine", one.item, one.showing].value for one in order] == [n % 5 for n in range(15)]
    assert marks["Ines Quine", order[0].item, 1].note == "3 of <four>"


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"format": "marks"}, "is not a file of marks"),
        ({"marker": " "}, "is not a file of marks"),
        ({"marks": [{"item": "x", "showing": 1, "value": 2}]}, "a reply that is not in this record"),
        ({"marks": [{"item": "ITEM", "showing": 1, "value": 9}]}, "is 9. Marks go from 0 to 4"),
        ({"marks": [{"item": "ITEM", "showing": 3, "value": 1}]}, "a reply that is not in this record"),
        ({"extra": 1}, "is not a file of marks"),
    ],
)
def test_a_file_of_marks_is_taken_in_whole_or_not_at_all(run_main, record, tmp_path, change, said):
    item = items_of(Record.open(record), ("explain",))[0].digest
    good = {"item": item, "showing": 1, "value": 3}
    file = {"format": "kettlefield marks 1", "marker": "Ines", "marks": [good], **change}
    file["marks"] = [good, *(mark | {"item": mark["item"].replace("ITEM", item)} for mark in change.get("marks", []))]
    path = tmp_path / "marks.json"
    path.write_text(json.dumps(file))
    done = run_main("mark", record, "--read", path)
    assert (done.code, said in done.err, done.err.count("\n")) == (2, True, 1), done.err
    assert standing_marks(Record.open(record)) == {}


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--sheet", "out.html"), "wants --by"),
        (("--by", " "), "is not a name"),
        (("--by", "I", "--read", "x"), "does not go with --read"),
        (("--by", "I", "--json"), "shows what was marked"),
        (("--by", "I", "--kinds", "explian"), 'there is no kind "explian"'),
        (("--by", "I", "--sheet", "/nowhere/out.html"), "cannot be written"),
    ],
)
def test_options_that_say_nothing_together_are_refused(run_main, record, words, said):
    done = run_main("mark", record, *words)
    assert (done.code, said in done.err) == (2, True), done.err


def mark(record, marker, value_of, showing=1):
    opened = Record.open(record)
    items = items_of(opened, ("explain", "page"))
    common = {"marker": marker, "showing": showing, "note": "", "via": "sheet"}
    opened.save_marks([MarkEntry(exercise_id=i.exercise, item=i.digest, value=value_of(i), **common) for i in items])
    opened.close()


def test_marks_enter_the_score_by_the_plans_weight_and_are_shown_apart(run_main, record):
    assert "Nothing was marked yet" in run_main("compare", record, "--part", "marks").out
    mark(record, "Ines Quine", lambda item: 4 if item.passed else 0)
    mark(record, "Ines Quine", lambda item: 4 if item.passed else 1, showing=2)
    mark(record, "Tam Orr", lambda item: 2)
    found = run_main("compare", record, "--part", "marks", "--json").json
    by_name = {one["candidate"]: one for one in found["candidates"]}
    best, worst = by_name["dune@f16"], by_name["dune@q4_k_m"]
    # by hand: Ines gives 4, Tam 2, so 3 of 4; half of the score is the mark on six of seven trials
    assert (best["marked"], best["mean_mark"]["value"], best["checks_score"]["value"]) == (6, 3.0, 1.0)
    assert best["marked_score"]["value"] == pytest.approx((6 * (0.5 + 0.5 * 0.75) + 1) / 7)
    # two of six are right; the others have 0 by the checks and (0.5 + 2) / 2 of 4 by people
    assert worst["mean_mark"]["value"] == pytest.approx((2 * 3 + 4 * 1.25) / 6)
    assert worst["marked_score"]["value"] == pytest.approx((2 * 0.875 + 4 * 0.5 * 1.25 / 4 + 1) / 7)
    assert found["parting_by_checks"]["value"] == 1.0
    told = run_main("compare", record, "--part", "marks").out
    assert "people weigh 0.5 and the judge 0 of" in told and "100% of such pairs" in told
    verdicts = run_main("decide", record, "--json").json["verdicts"]
    scores = {one["candidate"]: one["criteria"][1] for one in verdicts}
    assert scores["dune@f16"]["measure"] == "marked_score" and scores["dune@f16"]["status"] == "met"
    assert scores["dune@f16"]["found"]["value"] == pytest.approx(best["marked_score"]["value"])
    report = run_main("report", record, "-o", record.parent / "out")
    page = (record.parent / "out" / "report.html").read_text()
    assert report.code == 0 and 'id="marks"' in page and page.count("data:image/png") == 4


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        (SCORED, "none on what the checks find"),
        ("[marking]\nweight = 0.7\n", "[marking] weight: is 0.7"),
        (
            '[marking]\nweight = 0.3\n[judge]\nmodel = "a"\nweight = 0.3\nserver = { url = "http://x" }\n',
            "marks weigh 0.6",
        ),
        ('[judge]\nmodel = "a"\nserver = {}\n', "names no server"),
        ('[judge]\nmodel = "kelpling-400m"\nserver = { url = "http://x" }\n', "is a candidate too"),
        ('[judge]\nmodel = "a"\nkinds = ["pages"]\nserver = { url = "http://x" }\n', 'there is no kind "pages"'),
        ('[judge]\nmodel = "a"\nrounds = 0\nserver = { url = "http://x" }\n', "[judge] rounds: is 0"),
    ],
)
def test_a_plan_cannot_let_marks_decide_alone(run_main, make_plan, plan, said):
    done = run_main("qualify", make_plan(criteria=plan))
    assert (done.code, said in done.err) == (2, True), done.err


@pytest.mark.parametrize(
    ("name", "exercise", "remedy"),
    [("html", "crew-week", "apt-get install chromium"), ("c", "ebb-ledger", "apt-get install gcc")],
)
def test_what_a_rig_has_no_language_for_is_not_measured_and_every_table_says_so(
    run_main, make_plan, tmp_path, monkeypatch, name, exercise, remedy
):
    from kettlefield.languages import all_languages, language
    from kettlefield.suite.loader import find_suite

    plan = make_plan(head="suite_seed = 3")  # what varies is worked out by running it: not what cannot be run
    mine = tmp_path / "mine"
    for one in ("crew-week", "drift-set", "ebb-ledger"):
        shutil.copytree(find_suite("berthdesk", mine) / one, mine / one)
    (mine / "suite.toml").write_text('title = "Mine"\ndescription = "For a test."\n')
    plan.write_text(plan.read_text().replace('suite = "berthdesk"', 'suite = "mine"'))
    lacking = language.Missing(language=name, remedy=remedy)
    without = dict(all_languages.LANGUAGES.items())
    without[name] = msgspec.structs.replace(without[name], probe=lambda: lacking)
    monkeypatch.setattr(all_languages.LANGUAGES, "_known", without)
    all_languages.find_toolchain.cache_clear()
    shutil.copytree(mine / exercise, tmp_path / "alone" / exercise)
    shutil.copy(mine / "suite.toml", tmp_path / "alone")
    alone = plan.with_name("alone.toml")
    alone.write_text(plan.read_text().replace('suite = "mine"', 'suite = "alone"'))
    try:
        nothing = run_main("qualify", alone)
        ahead = run_main("qualify", plan, "--dry-run")
        done = run_main("qualify", plan)
    finally:
        monkeypatch.undo()
        all_languages.find_toolchain.cache_clear()
    assert nothing.code == 2 and "can be asked on this rig" in nothing.err and remedy in nothing.err
    words = f"not measured: {exercise} ({name} missing: {remedy})"
    record = tmp_path / "record.db"
    assert done.code == 0 and words in done.out and words in " ".join(ahead.out.split()), done.err
    for command in (
        *(("compare", record, *more) for more in ((), ("--by", "kind"), ("--by", "outcome"), ("--part", "solved"), ("--part", "cost"))),
        ("trials", record),
        ("decide", record),
    ):  # fmt: skip
        assert words in " ".join(run_main(*command).out.split()), command
    found = run_main("compare", record, "--json").json
    assert found["not_measured"] == [words] and found["candidates"][0]["planned"] == 2
    run_main("report", record, "-o", tmp_path / "out")
    page = (tmp_path / "out" / "report.html").read_text()
    assert words in page.partition("What it does not cover:")[2].partition("</ul>")[0]
    # where it is there the same command asks what was left out, and nothing else
    assert run_main("qualify", plan).code == 0
    after = run_main("compare", record, "--json").json
    assert after["not_measured"] == [] and after["candidates"][0]["trials"] == 3


def test_code_is_marked_when_asked_for_and_a_sheet_shows_what_a_browser_could_not(program, run_main, record, tmp_path):
    sheet = tmp_path / "all.html"
    assert run_main("mark", record, "--by", "Ines", "--kinds", "all", "--sheet", sheet).code == 0
    text = sheet.read_text()
    assert "def tide(): ..." in text and "could not take a picture of this page" in text
    assert "script-src 'nonce-" in text and "<b>high" not in text
    done = subprocess.run(
        [program, "mark", record, "--by", "Ines", "--kinds", "write"],
        input="4\n", capture_output=True, text=True, check=False, timeout=60,
    )  # fmt: skip
    # one reply of both levels, shown twice; the input ends before the second
    assert (
        "2 replies, 2 left" in done.stdout and "1 of 2 are marked" in done.stdout and "def tide(): ..." in done.stdout
    )
    found = run_main("mark", record, "--json").json
    assert {one["candidate"]: one["marked"] for one in found["candidates"]} == {"dune@f16": 1, "dune@q4_k_m": 1}
