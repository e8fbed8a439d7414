"""Pages in a real browser inside the isolation: what they show, how hostile ones end."""

import dataclasses

import pytest
from exercises import write_exercise

from kettlefield.core.errors import InputError, RigError
from kettlefield.grading import pages
from kettlefield.grading.grader import grade_files, grade_reply, visit_files
from kettlefield.grading.vetting import vet_exercise
from kettlefield.rig.toolchains import Missing
from kettlefield.sandbox.available import available_isolation
from kettlefield.sandbox.isolation import UserNamespaces

PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Tides</title></head>
<body><label>Berth <input id="berth"></label> <button id="go" onclick="tell()">Tell</button><p id="said">high</p>
<script>function tell() { said.textContent = 'berth ' + berth.value; }</script></body></html>
"""
STEPS = [
    {"do": "expect", "what": "text", "of": {"css": "#said"}, "equals": "high"},
    {"do": "type", "into": {"label": "Berth"}, "text": "7"},
    {"do": "click", "on": {"role": "button", "name": "Tell"}},
    {"do": "expect", "what": "text", "of": {"css": "#said"}, "equals": "berth 7"},
    {"do": "wait", "seconds": 60},
]
SPEC = {
    "kind": "page",
    "language": "html",
    "file": "index.html",
    "limits": {"wall": "4 s"},
    "check": [{"kind": "page", "name": "tells", "steps": "steps.json", "widths": ["phone"]}],
}


def script(code):
    return PAGE.replace("<script>", f"<script>{code}</script>\n<script>")


# what ends well enough for others to be looked at in the same browser
ENDS = {
    "as asked": (PAGE, "passed", ""),
    "shows nothing": (PAGE.replace("<body>", "<body hidden>"), "wrong-answer", "nothing is visible"),
    "console": (script("console.error('ebb')"), "crashed", "console: ebb"),
    "rejection": (script("Promise.reject(new Error('neap'))"), "crashed", "uncaught: neap"),
    "syntax": (script("let = ="), "crashed", "uncaught: "),
    "dialogs": (script("alert('one'); confirm('two')"), "wrong-answer", "opens 2 dialogs"),
    "windows": (script("for (let i = 0; i < 5; i += 1) window.open('about:blank?' + i)"), "wrong-answer", "windows of its own"),
    "library": (script("</script><script src='https://cdn.saltmarsh.example/x.js'>"), "missing-module", "a script from elsewhere"),
    "beacon": (script("fetch('http://127.0.0.1:22/')"), "crashed", "a fetch from elsewhere: http://127.0.0.1:22/"),
    "frame": (script("</script><iframe src='file:///etc/passwd'></iframe><script>"), "crashed", ""),
    "socket": (script("new WebSocket('ws://localhost:1')"), "crashed", "a websocket from elsewhere"),
    "own file missing": (script("</script><img src='gull.png' alt='gull'><script>"), "crashed", "404"),
    "huge": (script("for (let i = 0; i < 30000; i += 1) document.write('<i></i>')"), "over-limit", "elements, at most 20,000"),
    "slow step": (PAGE.replace("tell()\">", "setTimeout(tell, 9e5)\">"), "wrong-answer", "wanted 'berth 7'"),
    "no button": (PAGE.replace("<button", "<span").replace("</button", "</span"), "wrong-answer", "step 3, click button \"Tell\""),
    "hostile words": (PAGE.replace(">high<", ">\u202e</script><b>\x1b[31m<"), "wrong-answer", "step 1"),
}  # fmt: skip
STUCK = {
    "while it loads": (script("while (true) {}"), "timed-out", "while it was opened"),
    "at a step": (PAGE.replace("said.textContent =", "for (;;) ; said.textContent ="), "timed-out", "at step 3"),
    "dialogs for ever": (script("while (true) alert('ebb')"), "timed-out", ""),
    "reloads for ever": (script("location.reload()"), None, ""),
    "memory": (script("const held = []; for (;;) held.push(new Array(1e6).fill(held.length))"), None, ""),
}


@pytest.fixture(scope="module")
def exercise(tmp_path_factory):
    files = {"prompt.md": "A field Berth, a button Tell, a #said.\n", "steps.json": STEPS, "answer/index.html": PAGE}
    return write_exercise(tmp_path_factory.mktemp("pages") / "tells", SPEC, files)


@pytest.fixture(scope="module")
def seen(exercise):
    found = visit_files(exercise, [{"index.html": page} for page, _, _ in ENDS.values()], available_isolation())
    return dict(zip(ENDS, found, strict=True))


@pytest.mark.parametrize("name", ENDS)
def test_a_page_ends_as_it_is(exercise, seen, name):
    page, outcome, words = ENDS[name]
    grade = grade_files(exercise, {"index.html": page}, available_isolation(), visited=seen[name])
    tells = next(check for check in grade.checks if check.name == "tells")
    assert (str(grade.outcome), words in tells.detail) == (outcome, True), tells.detail
    # what a repair turn is told holds nothing that was expected
    assert "berth 7" not in tells.feedback
    if outcome in {"passed", "wrong-answer"}:
        assert [picture.width for picture in seen[name].pictures] == ["phone"]
        assert all(picture.png.startswith(b"\x89PNG") for picture in seen[name].pictures)


def test_pages_that_never_end_are_bounded_and_those_after_them_are_looked_at(exercise):
    answers = [{"index.html": page} for page in (*(page for page, _, _ in STUCK.values()), PAGE)]
    *found, after = visit_files(exercise, answers, available_isolation())
    for (name, (_, outcome, words)), answer, visited in zip(STUCK.items(), answers, found, strict=False):
        grade = grade_files(exercise, answer, available_isolation(), visited=visited)
        told = " ".join(check.detail for check in grade.checks)
        assert str(grade.outcome) in ({outcome} if outcome else {"timed-out", "over-limit", "crashed"}), (name, told)
        assert words in told, (name, told)
    assert all(check.passed for check in after.results.values())


def test_a_reply_is_graded_through_the_other_isolation_too(exercise):
    passed = grade_reply(exercise, f"Here it is.\n\n```html\n{PAGE}```\n", cap_hit=False, isolation=UserNamespaces())
    assert str(passed.outcome) == "passed" and len(passed.pictures) == 1 and passed.score == 1
    cut = grade_reply(exercise, "```html\n<!doctype html><p id=said>hi", cap_hit=True, isolation=available_isolation())
    assert str(cut.outcome) == "cut-off"


def test_time_passes_for_a_page_only_as_steps_let_it_and_drawing_is_looked_at_by_place(tmp_path):
    page = (
        PAGE.replace("</script>", "\nsetInterval(() => { said.textContent = Math.round(performance.now() / 1000); }, 500);"
        "localStorage.left = (localStorage.left || '') + 'x'; go.textContent = localStorage.left;"
        "const pen = chart.getContext('2d'); pen.fillStyle = '#0a5c8a'; pen.fillRect(0, 0, 50, 100);</script>")
        .replace("<p id", "<canvas id='chart' width='100' height='100'></canvas><p id")
    )  # fmt: skip
    chart = {"css": "#chart"}
    steps = [
        {"do": "wait", "seconds": 3600},
        {"do": "expect", "what": "text", "of": {"css": "#said"}, "at_least": 3600, "at_most": 3602},
        {"do": "expect", "what": "colour", "of": chart, "at": [0.25, 0.5], "equals": "#0a5c8a"},
        {"do": "expect", "what": "colour", "of": chart, "at": [0.75, 0.5], "lacks": "#0a5c8a"},
        {"do": "expect", "what": "text", "of": {"css": "#go"}, "equals": "x"},
    ]  # fmt: skip
    spec = SPEC | {"check": [SPEC["check"][0] | {"widths": ["phone", "desktop"]}]}
    files = {"steps.json": steps, "answer/index.html": page}
    one = write_exercise(tmp_path / "clock", spec, files)
    grade = grade_files(one, one.answer, available_isolation())
    # neither the clock nor what the page stored is left over from the width before
    assert str(grade.outcome) == "passed", grade.checks


@pytest.mark.parametrize(
    ("step", "said"),
    [
        ({"do": "click", "on": {}}, "one of role, label, text and css"),
        ({"do": "expect", "what": "text", "of": {"css": "p"}}, "it expects nothing"),
        ({"do": "expect", "what": "style", "of": {"css": "p"}, "equals": "x"}, '"property" belongs'),
        ({"do": "expect", "what": "colour", "of": {"css": "p"}, "equals": "#000000"}, '"at" belongs'),
        ({"do": "hover", "on": {"css": "p"}}, "hover"),
        ({"do": "click", "on": {"css": "p"}, "twice": True}, "twice"),
    ],
)
def test_steps_written_wrong_are_told_by_number(tmp_path, step, said):
    with pytest.raises(InputError, match="step 2") as told:
        write_exercise(tmp_path / "bad", SPEC, {"steps.json": [STEPS[0], step], "answer/index.html": PAGE})
    assert said in str(told.value)


def test_a_prompt_must_name_what_steps_look_for(exercise, tmp_path):
    files = {"prompt.md": "A page with a button.\n", "steps.json": STEPS, "answer/index.html": PAGE}
    vague = write_exercise(tmp_path / "vague", SPEC, files)
    assert any(
        "the prompt never says: Berth, Tell, said" in fault
        for fault in vet_exercise(vague, available_isolation()).faults
    )
    faults = vet_exercise(exercise, available_isolation()).faults
    assert faults == ("has 0 decoys, needs 2", "has 2 cases worked by hand, needs 3"), faults


def test_without_a_driver_it_is_the_rigs_fault(exercise, monkeypatch):
    monkeypatch.setattr(pages, "find_packages", lambda _: "playwright")
    grade = grade_files(exercise, exercise.answer, available_isolation())
    assert str(grade.outcome) == "rig-fault" and "pip install" in grade.fault
    monkeypatch.undo()
    lost = dataclasses.replace(pages.find_toolchain("html"), program="/usr/bin/false")
    monkeypatch.setattr("kettlefield.grading.grader.find_toolchain", lambda _: lost)
    assert str(grade_files(exercise, exercise.answer, available_isolation()).outcome) == "rig-fault"
    monkeypatch.setattr("kettlefield.grading.grader.find_toolchain", lambda _: Missing(language="html", remedy="r"))
    assert str(grade_files(exercise, exercise.answer, available_isolation()).outcome) == "rig-fault"
    with pytest.raises(RigError):
        visit_files(exercise, [exercise.answer], available_isolation())
