"""Replies that edit, continue or fill what they were given, and replies of several files."""

from functools import partial

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.extraction import extract as extraction
from kettlefield.core.extraction.continuation import cut_at_stops, cut_continuation
from kettlefield.core.extraction.patching import Fit, apply_changes, lines_changed_outside, parse_diff, parse_pairs
from kettlefield.core.extraction.wanted import Gap, Wanted
from kettlefield.core.plaintext import is_safe_name
from kettlefield.languages.all_languages import LANGUAGES

extract_answer = partial(extraction.extract_answer, languages=LANGUAGES)

GIVEN = """def tally(crates):
    total = 0
    for crate in crates:
        total = total + crate
    return total


def label(ship):
    return ship.upper()
"""
MENDED = GIVEN.replace("total + crate", "total + abs(crate)")
EDIT = Wanted(language="python", file="hold.py", entry="tally", given={"hold.py": GIVEN})
HUNK = "     for crate in crates:\n-        total = total + crate\n+        total = total + abs(crate)\n     return total\n"
HEADER = "--- a/hold.py\n+++ b/hold.py\n"
PAIR = "<<<<<<< SEARCH\n        total = total + crate\n=======\n        total = total + abs(crate)\n>>>>>>> REPLACE\n"

EDITS = {
    # the reply, and how the edit fitted
    "a whole file": (f"```python\n{MENDED}```", "the only block"),
    "a diff": (f"```diff\n{HEADER}@@ -3,3 +3,3 @@\n{HUNK}```", "a diff, applied cleanly"),
    "wrong counts and lines": (f"```diff\n{HEADER}@@ -70,9 +1,2 @@\n{HUNK}```", "a diff, applied cleanly"),
    "hunk without numbers": (f"```diff\n@@ ... @@\n{HUNK}```", "a diff, applied cleanly"),
    "bare diff": (f"The change:\n\n{HEADER}@@ -3,3 +3,3 @@\n{HUNK}", "a diff, applied cleanly"),
    "diff in an untagged block": (f"```\n{HEADER}@@ -3,3 +3,3 @@ def tally\n{HUNK}```", "a diff, applied cleanly"),
    "folder that is not there": (
        f"```diff\n{HEADER}@@ -3,3 +3,3 @@\n{HUNK}```".replace("/hold", "/src/hold"),
        "a diff, applied cleanly",
    ),
    "context retyped wrongly": (
        f"```diff\n{HEADER}@@ -3,3 +3,3 @@\n{HUNK}```".replace("for crate in crates", "for crate in the_crates"),
        "a diff, applied with fuzz",
    ),
    "indentation off": (
        "```diff\n@@ -4 +4 @@\n-    total = total + crate\n+    total = total + abs(crate)\n```",
        "a diff, applied with fuzz",
    ),
    "a pair": (f"```python\n{PAIR}```", "search/replace pairs, applied cleanly"),
    "a pair after its file's name": (f"hold.py\n```\n{PAIR}```", "search/replace pairs, applied cleanly"),
    "a pair with spaces at line ends": (
        PAIR.replace("+ crate\n", "+ crate  \n"),
        "search/replace pairs, applied with fuzz",
    ),
}


@pytest.mark.parametrize("name", EDITS)
def test_an_edit_given_as(name):
    reply, how = EDITS[name]
    found = extract_answer(reply, EDIT)
    assert (found.how, found.main) == (how, "hold.py")
    assert found.text == MENDED
    assert any("line counts are wrong" in remark for remark in found.remarks) is (name == "wrong counts and lines")


@pytest.mark.parametrize(
    ("reply", "words"),
    [
        (f"```diff\n{HEADER}@@ -1 +1 @@\n-no such line\n+x\n```", "did not apply at all: hold.py: change 1 of 1"),
        ("```diff\n--- a/../x\n+++ b/../../x.py\n@@ -1 +1 @@\n-def tally(crates):\n+def t():\n```", None),
        (PAIR.replace("+ crate", "+ cargo"), "did not apply at all"),
        ("```diff\n@@ -1 +1 @@\n def tally(crates):\n-    total = 0\n+    total = 0\n```", "changes nothing"),
    ],
)
def test_an_edit_that_fits_nowhere_says_so_and_changes_nothing(reply, words):
    found = extract_answer(reply, EDIT)
    if words is None:  # a single given file is meant whatever name the diff gives it: nothing is written elsewhere
        assert list(found.files) == ["hold.py"]
    else:
        assert (found.files, words in found.how) == ({}, True), found.how


def test_two_hunks_shift_each_other_and_an_addition_needs_no_old_line():
    text = "a\nb\nc\nb\nd\n"
    (edit,) = parse_diff(
        "--- x\n+++ x\n@@ -1,2 +1,4 @@\n a\n+a1\n+a2\n b\n@@ -4,2 +6,2 @@\n-b\n+B\n d\n@@ -5,0 +8 @@\n+end\n"
    )
    patched = apply_changes(text, edit.changes)
    assert (patched.text, patched.fit) == ("a\na1\na2\nb\nc\nB\nd\nend\n", Fit.CLEAN)


@given(st.lists(st.text("ab \n", max_size=8), max_size=12), st.data())
def test_what_the_standard_library_diffs_is_applied_cleanly(rows, data):
    import difflib

    old = "".join(row.replace("\n", "") + "\n" for row in rows)
    new_rows = data.draw(st.lists(st.sampled_from([*old.split("\n"), "new"]), max_size=12))
    new = "".join(row + "\n" for row in new_rows)
    diff = "".join(difflib.unified_diff(old.splitlines(True), new.splitlines(True), "x", "x"))
    edits = parse_diff(diff)
    if old.strip() and old != new and len(old.splitlines()) == len(set(old.splitlines())):
        patched = apply_changes(old, edits[0].changes)
        # blank context at a hunk's end may be given up, which lets a change of blank lines land beside its place
        assert patched.text.replace("\n", "") == new.replace("\n", "")


@given(st.text(st.sampled_from("@-+ <>=\nab`"), max_size=200))
def test_edits_never_raise(text):
    for edit in (*parse_diff(text), *parse_pairs(text)):
        apply_changes(GIVEN, edit.changes)
    extract_answer(text, EDIT)


def test_lines_changed_outside_the_asked_for_region_are_counted():
    assert lines_changed_outside(GIVEN, MENDED, ((3, 5),)) == 0
    assert lines_changed_outside(GIVEN, MENDED, ((8, 9),)) == 1
    renamed = MENDED.replace("label", "title_of").replace("ship.upper()", "ship.title()")
    assert lines_changed_outside(GIVEN, renamed, ((3, 5),)) == 2
    assert lines_changed_outside(GIVEN, MENDED + "\n\nprint(1)\nprint(2)\n", ((3, 5),)) == 4
    assert lines_changed_outside(GIVEN, GIVEN.replace("\n", "  \n"), ((1, 1),)) == 0


# --- several files --------------------------------------------------------------------------------------

MAIN, FARES = "from fares import fare\nprint(fare(2))\n", "def fare(n):\n    return 450 * n\n"
TWO = Wanted(language="python", file="main.py", others=("fares.py",))
TWO_FILES = {
    "info strings": f"```python main.py\n{MAIN}```\n```python:fares.py\n{FARES}```",
    "info alone": f"```fares.py\n{FARES}```\n```main.py\n{MAIN}```",
    "attributes": f'```python title="fares.py"\n{FARES}```\n```python title="main.py"\n{MAIN}```',
    "headings": f"### `fares.py`\n\n```python\n{FARES}```\n\n### 2. main.py\n\n```python\n{MAIN}```",
    "bold lines": f"**fares.py**\n```python\n{FARES}```\n**main.py** (the program)\n```python\n{MAIN}```",
    "sentences": f"First `fares.py`:\n```\n{FARES}```\nand then `main.py`:\n```\n{MAIN}```",
    "with a folder": f"```python desk/main.py\n{MAIN}```\n```python ./fares.py\n{FARES}```",
    "one unnamed": f"```python main.py\n{MAIN}```\n```python\n{FARES}```",
    "corrected later": f"`main.py`:\n```python\nprint(0)\n```\n`fares.py`:\n```python\n{FARES}```\n`main.py`:\n```python\n{MAIN}```",
    "shell and data beside": f"```sh\npython main.py\n```\n`main.py`\n```python\n{MAIN}```\n`fares.py`\n```python\n{FARES}```\n```csv\n1\n```",
    "a hostile name beside": f"```python ../../evil.py\nx = 1\n```\n```python main.py\n{MAIN}```\n```python fares.py\n{FARES}```",
}


@pytest.mark.parametrize("name", TWO_FILES)
def test_two_files_are_told_apart_by(name):
    found = extract_answer(TWO_FILES[name], TWO)
    assert found.files == {"main.py": MAIN, "fares.py": FARES}, found
    assert found.main == "main.py"


def test_names_in_first_line_comments_count_and_a_missing_file_is_named():
    reply = f"```python\n# main.py\n{MAIN}```\n```python\n# file: fares.py\n{FARES}```"
    assert [text.split("\n", 1)[1] for text in extract_answer(reply, TWO).files.values()] == [MAIN, FARES]
    lone = extract_answer(f"```python main.py\n{MAIN}```", TWO)
    assert "missing: fares.py" in lone.remarks
    helper = extract_answer(
        f"`main.py`\n```python\n{MAIN}```\n`fares.py`\n```python\n{FARES}```\n`util.py`\n```python\nx = 1\n```", TWO
    )
    assert list(helper.files) == ["main.py", "fares.py", "util.py"]


@pytest.mark.parametrize(
    "name",
    [
        "/etc/x.py",
        "../x.py",
        "a/../x.py",
        "a\0b.py",
        "a\\b.py",
        ".hidden",
        "a//b",
        "c:x",
        "",
        "x" * 300,
        "a/.git/x",
        "-rf",
        "\u202ex.py",
    ],
)
def test_a_hostile_file_name_is_refused(name):
    assert not is_safe_name(name)


# --- gaps and continuations -----------------------------------------------------------------------------

OPENING, BODY, CLOSING = "def rest(hours):\n    ", "left = 24 - hours\n", "    return max(left, 0)\n"
GAP = Wanted(language="python", file="rest.py", entry="rest", gap=Gap(opening=OPENING, closing=CLOSING))
WHOLE = OPENING + BODY + CLOSING


@pytest.mark.parametrize(
    "reply",
    [
        f"```python\n{WHOLE}```",
        f"```python\n{BODY}```",
        f"```python\n    {BODY}```",
        f"```python\n{BODY}{CLOSING}```",
        f"Fill it with:\n```\n    {BODY}{CLOSING}```",
    ],
)
def test_a_gap_is_filled_by_the_part_or_the_whole(reply):
    assert extract_answer(reply, GAP).text == WHOLE


def test_a_model_that_fills_the_gap_itself_may_repeat_what_follows_it():
    import msgspec

    wanted = msgspec.structs.replace(GAP, continued=True)
    assert extract_answer(BODY, wanted).text == WHOLE
    found = extract_answer(BODY + CLOSING + "\nprint(rest(3))\n", wanted)
    assert (found.text, "ran on" in found.remarks[0]) == (WHOLE, True)
    assert extract_answer("  \n", wanted).files == {}


RUNAWAYS = {
    # language: opening, what belongs to it, what runs on
    "python": ("def ebb(x):\n    ", "y = x\n\n    return y\n", "\ndef flood(x):\n    return 1\n\nprint(flood(2))\n"),
    "python cut in mid-line": ("def ebb(x):\n", "    return [\n        x,\n    ]\n", "\n\ndef flood(x):\n    retu"),
    "python method": (
        "class Log:\n    def add(self):\n",
        "        pass\n\n    def cut(self):\n        pass\n",
        "\nx = 1\nif",
    ),
    "javascript": ("function ebb(x) {\n", '  return { a: "}" }; // }\n}\n', "\nfunction flood() {}\n"),
    "c": (
        "int ebb(int x) {\n",
        "    char c = '}';\n    if (x) { return c; }\n    return 0;\n}\n",
        "int main(void) {}\n",
    ),
    "rust": ("fn ebb<'a>(x: &'a str) -> char {\n", "    '{'\n}\n", "fn main() {}\n"),
    "go": ("func ebb() string {\n", "\treturn `}`\n}\n", "func main() {}\n"),
    "bash": ("ebb() {\n", "  echo one\n}\n", "flood() {\n  echo\n}\n"),
    "sql": ("SELECT ship FROM calls\nWHERE note = ", "'a;b' -- c;\n;\n", "SELECT 1;\n"),
}


@pytest.mark.parametrize("name", RUNAWAYS)
def test_a_runaway_continuation_is_cut_where_the_unit_ends(name):
    opening, unit, runaway = RUNAWAYS[name]
    language = name.split()[0]
    assert cut_continuation(opening, unit + runaway, LANGUAGES.get(language)).strip() == unit.strip()
    assert cut_continuation(opening, unit, LANGUAGES.get(language)).strip() == unit.strip()


def test_stop_strings_cut_at_the_first_of_them():
    assert cut_at_stops("a\nEND b STOP", ("STOP", "END", "")) == "a\n"
    assert cut_at_stops("abc", ("x",)) == "abc"


# --- no language named ----------------------------------------------------------------------------------

FREE = Wanted(language="any", file="answer")


@pytest.mark.parametrize(
    ("reply", "name"),
    [
        ("```python\nprint(1)\n```", "answer.py"),
        ("```\n#include <stdio.h>\nint main(void) { return 0; }\n```", "answer.c"),
        ("```\n#include <iostream>\nint main() { std::cout << 1; }\n```", "answer.cpp"),
        ("```java\npublic class Tides {\n  public static void main(String[] a) {}\n}\n```", "Tides.java"),
        ("```go\npackage main\nfunc main() {}\n```\nRun it:\n```sh\ngo run x.go\n```", "answer.go"),
        ("```rs\nfn main() {}\n```", "answer.rs"),
        ("const x = 1;\nconsole.log(x);\n", "answer.js"),
        ('```bash\n#!/bin/bash\nwhile read -r line; do echo "$line"; done\n```', "answer.sh"),
    ],
)
def test_the_language_that_a_model_chose_names_the_file(reply, name):
    found = extract_answer(reply, FREE)
    assert found.main == name


def test_a_page_gives_its_scripts_and_a_transcript_its_program():
    page = '```html\n<!doctype html><html><head><script src="x.js"></script></head>\n<script>\nlet a = 1;\n</script></html>\n```'
    assert extract_answer(page, Wanted(language="javascript", file="a.js")).text == "let a = 1;\n"
    words = extract_answer("<think>hm</think>\nEbb is outgoing.", Wanted(language="text", file="reply.md"))
    assert words.text == "Ebb is outgoing.\n"
