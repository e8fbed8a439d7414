"""Pages in a real browser inside the isolation: what they show, how hostile ones end."""

import msgspec
import pytest
from exercises import grader, write_exercise

from kettlefield.core.errors import InputError, RigError
from kettlefield.grading.checks import pages
from kettlefield.grading.grader import Grader
from kettlefield.grading.vetting import vet_exercise
from kettlefield.languages.language import Missing
from kettlefield.sandbox.runner import available_isolation

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
    "will not be left": (
        script("addEventListener('beforeunload', (event) => { event.preventDefault(); event.returnValue = 'stay'; })"), "passed", ""
    ),
    "hostile words": (PAGE.replace(">high<", ">\u202e</script><b>\x1b[31m<"), "wrong-answer", "step 1"),
}  # fmt: skip
STUCK = {
    "while it loads": (script("while (true) {}"), "timed-out", "while it was opened"),
    "at a step": (PAGE.replace("said.textContent =", "for (;;) ; said.textContent ="), "timed-out", "at step 3"),
    "dialogs for ever": (script("while (true) alert('ebb')"), "timed-out", ""),
    "memory": (script("const held = []; for (;;) held.push(new Array(1e6).fill(held.length))"), None, ""),
}


@pytest.fixture(scope="module")
def exercise(tmp_path_factory):
    files = {"prompt.md": "A field Berth, a button Tell, a #said.\n", "steps.json": STEPS, "answer/index.html": PAGE}
    return write_exercise(tmp_path_factory.mktemp("pages") / "tells", SPEC, files)


@pytest.fixture(scope="module")
def seen(exercise):
    found = grader().visit_files(exercise, [{"index.html": page} for page, _, _ in ENDS.values()])
    return dict(zip(ENDS, found, strict=True))


@pytest.mark.parametrize("name", ENDS)
def test_a_page_ends_as_it_is(exercise, seen, name):
    page, outcome, words = ENDS[name]
    grade = grader().grade_files(exercise, {"index.html": page}, visited=seen[name])
    tells = next(check for check in grade.checks if check.name == "tells")
    assert (str(grade.outcome), words in tells.detail) == (outcome, True), tells.detail
    # what a repair turn is told holds nothing that was expected
    assert "berth 7" not in tells.feedback
    assert seen[name].pictures == ()  # a suite's own answers are looked at, not kept


def test_pages_that_never_end_are_bounded_and_those_after_them_are_looked_at(exercise):
    answers = [{"index.html": page} for page in (*(page for page, _, _ in STUCK.values()), PAGE)]
    *found, after = grader().visit_files(exercise, answers)
    for (name, (_, outcome, words)), answer, visited in zip(STUCK.items(), answers, found, strict=False):
        grade = grader().grade_files(exercise, answer, visited=visited)
        told = " ".join(check.detail for check in grade.checks)
        assert str(grade.outcome) in ({outcome} if outcome else {"timed-out", "over-limit", "crashed"}), (name, told)
        assert words in told, (name, told)
    assert all(check.passed for check in after.results.values())


def test_a_reply_is_graded_through_the_other_isolation_too(exercise):
    passed = grader().grade_reply(
        exercise,
        f"Here it is.\n\n```html\n{PAGE}```\n",
        cap_hit=False,
    )
    assert str(passed.outcome) == "passed" and passed.score == 1
    assert [picture.width for picture in passed.pictures] == ["phone", "desktop"]
    assert all(picture.png.startswith(b"\x89PNG") for picture in passed.pictures)
    cut = grader().grade_reply(exercise, "```html\n<!doctype html><p id=said>hi", cap_hit=True)
    assert str(cut.outcome) == "cut-off"


def test_time_passes_for_a_page_only_as_steps_let_it_and_drawing_is_looked_at_by_place(tmp_path):
    page = (
        PAGE.replace("</script>", "\nsetInterval(() => { said.textContent = Math.round(performance.now() / 1000); }, 500);"
        "began.textContent = new Date().toISOString() + document.cookie; document.cookie = 'tide=high';"
        "localStorage.left = (localStorage.left || '') + 'x'; go.textContent = localStorage.left;"
        "host.attachShadow({mode: 'open'}).innerHTML = '<p id=inside>neap</p>';"
        "const pen = chart.getContext('2d'); pen.fillStyle = '#0a5c8a'; pen.fillRect(0, 0, 50, 100);"
        "for (let i = 0; i < 4000; i += 1) { pen.fillStyle = `hsl(${i * 37} 90% 50%)`; pen.fillRect(51 + i % 49, i * 7 % 100, 1, 1); }</script>")
        .replace("<p id", "<canvas id='chart' width='100' height='100'></canvas><p id='began'></p><p id='framed'></p>"
        "<div id='host'></div><iframe srcdoc=\"<script>setTimeout(() => { parent.framed.textContent = 'late'; }, 9e4)</script>\">"
        "</iframe><p id", 1)
    )  # fmt: skip
    chart = {"css": "#chart"}
    steps = [
        {"do": "wait", "seconds": 3600},
        {"do": "expect", "what": "text", "of": {"css": "#said"}, "at_least": 3600, "at_most": 3602},
        {"do": "expect", "what": "colour", "of": chart, "at": [0.25, 0.5], "equals": "#0a5c8a"},
        {"do": "expect", "what": "colour", "of": chart, "at": [0.75, 0.5], "lacks": "#0a5c8a"},
        {"do": "expect", "what": "text", "of": {"css": "#go"}, "equals": "x"},
        {"do": "expect", "what": "text", "of": {"css": "#began"}, "equals": "2031-03-10T08:00:01.000Z"},
        {"do": "expect", "what": "text", "of": {"css": "#inside"}, "equals": "neap"},
        {"do": "expect", "what": "text", "of": {"css": "#framed"}, "equals": "late"},
    ]  # fmt: skip
    spec = SPEC | {"check": [SPEC["check"][0] | {"widths": ["phone", "desktop"]}]}
    files = {"steps.json": steps, "answer/index.html": page}
    one = write_exercise(tmp_path / "clock", spec, files)
    grade = grader().grade_files(one, one.answer)
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
    assert any("the prompt never says: Berth, Tell, said" in fault for fault in vet_exercise(vague, grader()).faults)
    faults = vet_exercise(exercise, grader()).faults
    assert faults == ("has 0 decoys, needs 2", "has 2 cases worked by hand, needs 3"), faults


def test_without_a_driver_it_is_the_rigs_fault(exercise, monkeypatch):
    fresh = Grader(available_isolation())  # that has seen nothing yet
    monkeypatch.setattr(pages, "find_packages", lambda _: "playwright")
    grade = fresh.grade_files(exercise, exercise.answer)
    assert str(grade.outcome) == "rig-fault" and "pip install" in grade.fault
    monkeypatch.undo()
    lost = msgspec.structs.replace(pages.find_toolchain("html"), program="/usr/bin/false")
    monkeypatch.setattr("kettlefield.grading.grader.find_toolchain", lambda _: lost)
    assert str(fresh.grade_files(exercise, exercise.answer).outcome) == "rig-fault"
    monkeypatch.setattr("kettlefield.grading.grader.find_toolchain", lambda _: Missing(language="html", remedy="r"))
    assert str(fresh.grade_files(exercise, exercise.answer).outcome) == "rig-fault"
    with pytest.raises(RigError):
        fresh.visit_files(exercise, [exercise.answer])


EVERY = """<!doctype html>
<html lang="en"><head><title>Every step</title><style>
#wide { width: 200px; height: 40px; background: #0a5c8a } #box, #bin { width: 120px; padding: 10px; border: 1px solid }
.hid { display: none }</style></head><body>
<label>Ship <select id="ship"><option>Teal</option><option>Avocet</option></select></label>
<label><input type="checkbox" id="kept"> Only kept</label> <label>Note <textarea id="note"></textarea></label>
<button id="off" disabled>Off</button><ul id="list"><li>one</li><li class="hid">two</li><li>three</li></ul>
<div id="wide"></div><button id="box" draggable="true">Box</button><div id="bin">Bin</div><p id="keys"></p>
<script>
addEventListener("keydown", (event) => { keys.textContent += event.key; });
bin.ondragover = (event) => event.preventDefault();
bin.ondrop = () => { bin.append(box); };
</script></body></html>
"""


def expect(what, css, **wish):
    return {"do": "expect", "what": what, "of": {"css": css}, **wish}


EVERY_STEP = [
    expect("texts", "#list li", equals=["one", "three"]),
    expect("count", "#list li", equals=2),
    expect("visible", "#list .hid", equals=False),
    expect("text", "#list li", equals="one"),
    {"do": "expect", "what": "text", "of": {"css": "li", "within": "#list", "nth": 3}, "equals": "three"},
    {"do": "choose", "of": {"label": "Ship"}, "option": "Avocet"},
    expect("value", "#ship", equals="Avocet"),
    {"do": "click", "on": {"label": "Only kept"}},
    {"do": "expect", "what": "checked", "of": {"role": "checkbox"}, "equals": True},
    expect("enabled", "#off", equals=False),
    expect("enabled", "#box", equals=True),
    {"do": "type", "into": {"label": "Note"}, "text": "half tide"},
    expect("value", "#note", pattern="^half"),
    {"do": "press", "key": "q", "at": {"css": "#box"}},
    expect("focused", "#box", equals=True),
    {"do": "press", "key": "Shift+Tab"},
    expect("focused", "#note", equals=True),
    expect("text", "#keys", holds="q"),
    expect("attribute", "#box", property="draggable", equals="true"),
    expect("attribute", "#bin", property="draggable", equals="none"),
    expect("style", "#wide", property="background-color", equals="#0a5c8a"),
    expect("width", "#wide", equals=200),
    expect("height", "#wide", at_least=40, at_most=40),
    expect("width", "#list .hid", equals=0),
    expect("inside", "#wide", equals=True),
    expect("colour", "#wide", at=[0.5, 0.5], equals="#0a5c8a"),
    {"do": "drag", "what": {"text": "Box"}, "to": {"css": "#bin"}},
    expect("texts", "#bin button", equals=["Box"]),
]


def test_every_step_and_quantity_does_in_a_browser_what_it_says(tmp_path):
    spec = SPEC | {"check": [SPEC["check"][0] | {"widths": ["desktop"]}]}
    one = write_exercise(tmp_path / "every", spec, {"steps.json": EVERY_STEP, "answer/index.html": EVERY})
    grade = grader().grade_files(one, one.answer)
    (check,) = grade.checks
    wanted = sum(step["do"] == "expect" for step in EVERY_STEP)
    # all but the one that is wrong on purpose: an attribute that is not there is no text
    assert (check.cases_passed, check.cases_total) == (wanted - 1, wanted), check.detail
    assert "the attribute draggable of #bin is None: wanted 'none'" in check.detail
    assert check.feedback.endswith("which is not what was asked for") and str(grade.outcome) == "wrong-answer"


RULED = """<!doctype html>
<html lang="en"><head><title>Rules</title><style>body { background: #fff; color: #222 }</style></head><body>
<h1>Rules</h1><label for="a">Berth</label><input id="a"> <button>Go</button> <a href="#x">Home</a> <img src="g.svg" alt="">
<fieldset><legend>Tide</legend><label><input type="radio" name="t">ebb</label> <label><input type="radio" name="t">flood</label>
</fieldset><p id="x">Words</p></body></html>
"""
# each breaks one rule; what is said of it
BROKEN = {
    "no language": (RULED.replace(' lang="en"', ""), "language: the page does not say its language"),
    "no title": (RULED.replace("<title>Rules</title>", ""), "language: the page has no title"),
    "field without a name": (RULED.replace('<label for="a">Berth</label>', "Berth"), "names: 'input#a' has no name"),
    "button without a name": (RULED.replace("<button>Go", "<button>"), "names: 'button' has no name"),
    "picture without words": (RULED.replace(' alt=""', ""), "names: picture 'img' has no text in its place"),
    "bare canvas": (RULED.replace("<p id", "<canvas></canvas><p id"), "names: picture 'canvas' has no text"),
    "faint": (RULED.replace("Words", "<span style='color: #aaa'>Words</span>"), "contrast: 'Words' has contrast 2.3"),
    "faint by what is behind": (
        RULED.replace("<p id", "<p style='background: rgba(0, 0, 0, .7)' id"),
        "contrast: 'Words' has contrast",
    ),
    "out of reach": (RULED.replace("<button>", "<button tabindex='-1'>"), "keyboard: the tabulator key never comes to 'button Go'"),
    "wide": (RULED.replace("<p id", "<div style='width: 500px'>wide</div><p id"), "fits: it is 508 px wide in a view of 390 px"),
}  # fmt: skip


def test_each_rule_finds_in_a_browser_what_breaks_it_and_nothing_else(tmp_path):
    spec = SPEC | {"check": [{"kind": "page-rules", "name": "rules"}]}
    files = {"answer/index.html": RULED, "given/g.svg": '<svg xmlns="http://www.w3.org/2000/svg"/>'}
    one = write_exercise(tmp_path / "ruled", spec, files)
    pages_of = [RULED, *(page for page, _ in BROKEN.values())]
    seen = grader().visit_files(one, [{"index.html": page} for page in pages_of])
    assert seen[0].results["rules"].passed, seen[0].results["rules"].detail
    for (name, (_, words)), visited in zip(BROKEN.items(), seen[1:], strict=True):
        result = visited.results["rules"]
        assert words in result.detail and not result.passed, (name, result.detail)
        # one rule of five, at one width or at both
        assert result.cases_total - result.cases_passed == (1 if name == "wide" else 2), (name, result.detail)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"language": "python", "file": "answer.py"}, 'does not fit language "python"'),
        ({"check": [{"kind": "program", "name": "p", "cases": "c.json"}]}, "does not fit language \"html\""),
        ({"check": [SPEC["check"][0] | {"widths": ["tablet"]}]}, "tablet"),
        ({"check": [{"kind": "page-rules", "name": "r", "rules": ["beauty"]}]}, "beauty"),
        ({"kind": "page", "language": "text", "check": [{"kind": "text", "name": "t"}]}, 'kind "page" asks for "text"'),
    ],
)  # fmt: skip
def test_an_exercise_of_pages_that_contradicts_itself_is_told(tmp_path, change, said):
    spec = SPEC | change
    with pytest.raises(InputError) as told:
        write_exercise(tmp_path / "odd", spec, {"steps.json": STEPS, f"answer/{spec['file']}": PAGE})
    assert said in str(told.value)


def test_a_page_gets_its_own_files_and_those_given_and_no_others(tmp_path):
    page = (
        '<!doctype html><html lang="en"><head><title>t</title><link rel="stylesheet" href="a/own.css?v=1"></head><body>'
        '<p id="said"></p><script type="module">import { TIDE } from "./given.js";\nsaid.textContent = TIDE;</script></body></html>'
    )
    spec = SPEC | {"files": ["a/own.css"], "check": [SPEC["check"][0] | {"steps": "own.json"}]}
    steps = [
        expect("text", "#said", equals="high"),
        expect("style", "#said", property="color", equals="#0a5c8a"),
        expect("visible", "#said", equals=True),
    ]
    files = {
        "own.json": steps,
        "answer/index.html": page,
        "answer/a/own.css": "#said { color: #0a5c8a }",
        "given/given.js": "export const TIDE = 'high';",
    }
    one = write_exercise(tmp_path / "own", spec, files)
    assert str(grader().grade_files(one, one.answer).outcome) == "passed"
    # a reply that leaves the sheet out: the page asks for what is not there
    reply = f"```html\n{page}```\n"
    lost = grader().grade_reply(one, reply, cap_hit=False)
    assert str(lost.outcome) == "crashed" and "404" in lost.checks[0].detail
    # nothing of the harness or of the machine can be asked for
    for path in ("/etc/passwd", "..%2f.harness/page.py"):
        spying = page.replace("./given.js", path)
        grade = grader().grade_files(one, one.answer | {"index.html": spying})
        assert str(grade.outcome) in {"crashed", "wrong-answer"}, path


HIDDEN = {
    # how an element is kept from whoever looks: each is there, has words, and is not seen
    "clipped": "position: absolute; width: 1px; height: 1px; overflow: hidden; clip: rect(0 0 0 0)",
    "clip path": "clip-path: inset(100%)",
    "outside": "position: absolute; left: -9999px",
    "transparent": "opacity: 0",
    "its ground's colour": "color: #ffffff; background: #ffffff",
    "no colour": "color: transparent",
    "no size": "font-size: 0",
    "cut off": "height: 0; overflow: hidden",
    "none": "display: none",
    "invisible": "visibility: hidden",
}
SEEN_ALL_THE_SAME = {
    "plain": "",
    "white on blue": "color: #ffffff; background: #003366",
    "small": "font-size: 9px",
    "half clear": "opacity: 0.5",
}


def test_a_breakpoint_is_tried_on_both_sides_and_what_nobody_sees_is_not_visible(tmp_path):
    marks = {**HIDDEN, **SEEN_ALL_THE_SAME}
    lines = "".join(f'<p class="m{i}" style="{style}">word</p>' for i, style in enumerate(marks.values()))
    page = (
        '<!doctype html><html lang="en"><head><title>t</title><style>body { background: #fff; color: #111 }'
        ' b::before { content: attr(data-duty) ": " } @media (max-width: 699px) { i { display: none } }</style></head>'
        f'<body><b data-duty="Mate">Orr</b><i>wide</i>{lines}</body></html>'
    )
    steps = [
        *(
            {"do": "expect", "what": "visible", "of": {"css": f".m{i}"}, "equals": name in SEEN_ALL_THE_SAME}
            for i, name in enumerate(marks)
        ),
        {"do": "expect", "what": "before", "of": {"css": "b"}, "equals": "Mate:"},
    ]
    wide = [{"do": "expect", "what": "visible", "of": {"css": "i"}, "equals": True}]
    checks = [
        {"kind": "page", "name": "marks", "steps": "marks.json", "widths": ["desktop"]},
        {"kind": "page", "name": "wide", "steps": "wide.json", "widths": [700]},
    ]
    words = " ".join(f"m{i}" for i in range(len(marks)))
    files = {"prompt.md": f"Classes {words}. Below 700 pixels no `i` is shown.\n", "answer/index.html": page}
    files |= {"marks.json": steps, "wide.json": wide}
    exercise = write_exercise(tmp_path / "e", SPEC | {"check": checks}, files)
    grade = grader().grade_files(exercise, {"index.html": page})
    assert str(grade.outcome) == "passed", [check.detail for check in grade.checks]
    late = grader().grade_files(exercise, {"index.html": page.replace("699px", "700px")})
    assert "at a width of 700 px" in late.checks[1].detail
    assert "a breakpoint at 700 px" in " ".join(vet_exercise(exercise, grader()).faults)
    checks[1]["widths"] = [699, 700]
    files["wide.json"] = steps[-1:]
    both = write_exercise(tmp_path / "both", SPEC | {"check": checks}, files)
    assert "breakpoint" not in " ".join(vet_exercise(both, grader()).faults)
