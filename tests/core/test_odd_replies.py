"""Replies as models really write them: the answer that a careful person would take from each."""

import resource
import subprocess
import sys
from functools import partial

import msgspec
import pytest

from kettlefield.core.extraction import extract as extraction
from kettlefield.core.extraction.continuation import cut_at_stops, cut_continuation
from kettlefield.core.extraction.extract import answer_text
from kettlefield.core.extraction.fences import find_blocks
from kettlefield.core.extraction.wanted import Gap, Wanted
from kettlefield.core.plaintext import fits_beside
from kettlefield.languages.all_languages import LANGUAGES

extract_answer = partial(extraction.extract_answer, languages=LANGUAGES)

PYTHON = Wanted(language="python", file="answer.py", entry="berth_of")
SCRIPT = Wanted(language="python", file="answer.py")
CODE = "def berth_of(ship):\n    return ship[0]\n"
LONGER = "def berth_of(ship):\n    # the first letter\n    name = ship\n    letter = name[0]\n    return letter\n" * 1


def taken(reply, wanted=PYTHON):
    return extract_answer(reply, wanted).text


# --- blocks ---------------------------------------------------------------------------------------------


def test_a_fence_inside_a_docstring_is_text():
    code = 'def berth_of(ship):\n    """Say:\n\n    ```\n    berth_of("Teal")\n    ```\n    """\n    return ship[0]\n'
    assert taken(f"```python\n{code}```\nDone.") == code


def test_a_quotation_or_a_list_item_ends_its_fence():
    quoted = f"> ```py\n> {CODE.strip().replace(chr(10), chr(10) + '> ')}\n\nA paragraph after it."
    listed = f"- ```py\n  {CODE.strip().replace(chr(10), chr(10) + '  ')}\n\nA paragraph after it."
    for reply in (quoted, listed):
        (block,) = find_blocks(reply)
        assert (block.text.strip(), block.closed) == (CODE.strip(), True)


@pytest.mark.parametrize(
    "reply",
    [
        f"1. ```python\n{CODE}```\n",  # not indented below its list mark
        f"The code:\n    ```python\n    {CODE.replace(chr(10), chr(10) + '    ').strip()}\n    ```\n",
        f"````markdown\nHere it is:\n\n```python\n{CODE}```\n````",
        f'<pre><code class="language-python">{CODE}</code></pre>',
        "<pre><code>\n" + "def berth_of(ship):\n    return ship[0] if 1 &lt; 2 else 0\n</code></pre>",
    ],
)
def test_a_block_that_breaks_the_rules_is_read_all_the_same(reply):
    assert "def berth_of(ship):\n    return ship[0]" in taken(reply)


# --- thinking -------------------------------------------------------------------------------------------

STRIP = 'import re\ndef berth_of(text):\n    return re.sub("<think>.*?</think>", "", text)\n'
THOUGHTS = {
    "only the end, as a template that opens it leaves it": f"Let me see: def berth_of(x): pass\n</think>\n```python\n{CODE}```",
    "only the end, at the end of a line": f"```python\nx = 1\n```\nso it is.</think>\n\n{CODE}",
    "an end in code after the real end": f"<think>hm</think>\n```python\n{CODE}```\n```text\n</think>\n```",
    "words before it": f"Let me think.\n<think>\ndef berth_of(x): pass\n</think>\n```python\n{CODE}```",
    "two thoughts": f"<think>a</think>\n<think>b</think>\n{CODE}",
    "brackets": f"[THINK]a[/THINK]{CODE}",
    "channels": f"<|channel|>analysis<|message|>x = 1<|end|><|start|>assistant<|channel|>final<|message|>{CODE}<|return|>",
}


@pytest.mark.parametrize("name", THOUGHTS)
def test_thinking_is_set_aside_with(name):
    assert taken(THOUGHTS[name]).strip() == CODE.strip()


def test_a_closing_tag_in_code_or_prose_is_no_end_of_thinking():
    assert taken(f"```python\n{STRIP}```") == STRIP
    assert taken(f"<think>first</think>\n```python\n{STRIP}```") == STRIP
    assert taken(f"It removes the </think> tag.\n```python\n{CODE}```") == CODE
    assert answer_text("The tag </think> ends it, and so on.") == "The tag </think> ends it, and so on."
    assert answer_text("<|channel|>analysis<|message|>still thinking") == ""


# --- which blocks ---------------------------------------------------------------------------------------

HELPER = "def letter(ship):\n    return ship[0]\n"
USES = "def berth_of(ship):\n    return letter(ship)\n"


def test_a_correction_counts_even_when_it_is_shorter():
    long = "def berth_of(ship):\n" + "".join(f"    a{n} = {n}\n" for n in range(40)) + "    return ship\n"
    assert taken(f"```python\n{long}```\nCorrection:\n```python\n{CODE}```") == CODE
    # one that is cut off, or a use of it, does not replace it
    assert taken(f"```python\n{CODE}```\n```python\ndef berth_of(ship):\n    return (\n```") == CODE
    assert (
        taken(f"```python\n{CODE}```\n```python\nassert berth_of('Teal') == 'T'\nprint(berth_of('Ebb'))\n```") == CODE
    )
    longer_test = "from answer import berth_of\n" + "".join(f"assert berth_of('T{n}') == 'T'\n" for n in range(30))
    script = "print(input()[0])\n"
    assert taken(f"```python\n{script}```\n```python\n{longer_test}```", SCRIPT) == script
    # a correction of one function stands behind what it still needs
    first, fixed = f"{HELPER}\n\n{USES}", "def berth_of(ship):\n    return letter(ship).upper()\n"
    both = taken(f"```python\n{first}```\nOnly this changes:\n```python\n{fixed}```")
    assert both.startswith(HELPER) and both.endswith(fixed)
    # one that only has an argument of the same name needs nothing of it
    script = "rows = input().split()\n\ndef tally(rows):\n    return len(rows)\n\nprint(tally(rows))\n"
    whole = "def tally(rows):\n    return len(set(rows))\n\nprint(tally(input().split()))\n"
    assert taken(f"```python\n{script}```\n```python\n{whole}```", SCRIPT) == whole
    short = "berth_of = lambda ship: ship[0]\n"
    assert taken(f"```python\n{CODE}```\nor shorter:\n```python\n{short}```") == short
    program = "def main():\n    print(1)\n\nmain()\n"
    better = "def main():\n    print(2)\n\nmain()\n"
    assert taken(f"```python\n{program}```\nBetter:\n```python\n{better}```", SCRIPT) == better


@pytest.mark.parametrize(
    ("language", "entry", "parts"),
    [
        ("python", "berth_of", (HELPER, USES)),
        ("python", "berth_of", (USES, HELPER)),
        ("python", "berth_of", ("from collections import deque\n", "def berth_of(ship):\n    return deque(ship)[0]\n")),
        ("python", "berth_of", ("def berth_of(ship):\n    if ship:\n", "        return ship[0]\n")),
        ("python", None, ("def tide(x):\n    return x + 1\n", "print(tide(int(input())))\n")),
        ("c", None, ("#include <stdio.h>\n", 'int main(void) {\n    printf("1");\n    return 0;\n}\n')),
        ("c", None, ("static int ebb(int x) {\n    return x;\n}\n", "int main(void) {\n    return ebb(0);\n}\n")),
        ("rust", None, ("struct Berth {\n    ship: u8,\n}\n", "fn main() {\n    let b = Berth { ship: 1 };\n}\n")),
        ("go", None, ("package main\n\nfunc ebb() int {\n\treturn 1\n}\n", "func main() {\n\tprintln(ebb())\n}\n")),
        ("javascript", "berthOf", ("const LETTERS = 'AB';\n", "function berthOf(s) {\n  return LETTERS[s];\n}\n")),
    ],
)
def test_blocks_that_need_each_other_are_one_answer(language, entry, parts):
    wanted = Wanted(language=language, file="answer", entry=entry)
    reply = "First:\n\n" + "\n\nthen:\n\n".join(f"```{language}\n{part}```" for part in parts)
    found = extract_answer(reply, wanted)
    assert all(part.strip() in found.text for part in parts), found
    assert "together" in found.how


# --- continuations, gaps --------------------------------------------------------------------------------


def test_the_asked_unit_is_kept_when_what_runs_on_is_half_written():
    opening = "import math\n\n\ndef helper(x):\n    return x\n\n\n"
    unit = "LIMIT = 3\n\n\n@cache\ndef ebb(x):\n    return x\n"
    for runaway in ("\n\ndef flood(x:\n", "\n\nclass Flood:\n    def a(self):\n        return [\n", "\n\nx = '''\n"):
        kept = cut_continuation("def ebb(x):\n", f"    y = [\n        x]\n    return y\n{runaway}", LANGUAGES["python"])
        assert kept.strip() == "y = [\n        x]\n    return y"
        assert cut_continuation(opening, unit + runaway, LANGUAGES["python"]).startswith("LIMIT = 3")
        fenced = extract_answer(f"```python\n{CODE}{runaway}", PYTHON)
        assert (fenced.text.strip(), fenced.cut) == (CODE.strip(), True)
    braced = extract_answer(
        "```c\nint ebb(int x) {\n    return x;\n}\n\nint flood(int x) {\n    if (x",
        Wanted(language="c", file="a.c", entry="ebb"),
    )
    assert braced.text == "int ebb(int x) {\n    return x;\n}\n"
    # the asked unit itself cut off: nothing is thrown away
    assert "return (" in taken("```python\ndef berth_of(ship):\n    return (")


def test_a_mark_of_the_gap_repeated_at_the_start_is_skipped():
    ends = ("<P>", "<S>", "<M>", "<|endoftext|>")
    assert cut_at_stops("<M>left = 1\n<|endoftext|>more", ends) == "left = 1\n"
    assert cut_at_stops(" <M><M>left = 1\n", ends) == "left = 1\n"


RUST = "use std::io::Read;\n\nfn main() {\n    let mut text = String::new();\n"
OPENINGS = {
    "comments dropped": (
        "python",
        "# the calls of a day\nimport sys\n\n# read them\nrows = sys.stdin.read().split()\n",
        "import sys\nrows = sys.stdin.read().split()\nprint(len(rows))\n",
    ),
    "another use line": (
        "rust",
        RUST,
        "use std::io;\nuse std::io::Read;\n\nfn main() {\n    let mut text = String::new();\n    io::stdin();\n}\n",
    ),
    "another use line only": ("rust", RUST, 'use std::io;\n\nfn main() {\n    println!("1");\n}\n'),
    "sql without its comments": (
        "sql",
        "-- ships that call twice\nSELECT ship,\n       count(*) AS calls\n",
        "select ship, count(*) as calls\nfrom calls group by ship;\n",
    ),
    "a comment appended": (
        "python",
        "total = 0\nfor row in rows:\n",
        "total = 0  # pence\nfor row in rows:  # each\n    total += row\n",
    ),
}


@pytest.mark.parametrize("name", OPENINGS)
def test_a_block_that_says_the_opening_in_other_words_is_the_whole_program(name):
    language, opening, block = OPENINGS[name]
    wanted = Wanted(language=language, file="a", gap=Gap(opening=opening))
    assert taken(f"```{language}\n{block}```", wanted) == block


def test_a_block_that_only_carries_on_is_put_behind_the_opening():
    wanted = Wanted(language="rust", file="a.rs", gap=Gap(opening=RUST))
    assert taken("```rust\n    text.push('a');\n}\n```", wanted) == RUST + "    text.push('a');\n}\n"


# --- names and edits ------------------------------------------------------------------------------------


@pytest.mark.parametrize("order", [("rules.py", "rules.py/test_rules.py"), ("rules.py/test_rules.py", "rules.py")])
def test_a_file_in_the_place_of_a_folder_is_left_out(order):
    wanted = Wanted(language="python", file="main.py", others=("rules.py",))
    reply = "".join(f"`{name}`\n```python\nx = 1\n```\n" for name in ("main.py", *order))
    names = list(extract_answer(reply, wanted).files)
    assert sorted(names) == ["main.py", "rules.py"]
    page = '```html\n<!doctype html><script src="index.html/x.js"></script>\n```\n`index.html/x.js`\n```js\nlet a;\n```'
    found = extract_answer(page, Wanted(language="html", file="index.html"))
    assert list(found.files) == ["index.html"]
    assert fits_beside("a/b", ("a.py", "ab/c")) and not fits_beside("a/b", ("a",))


GIVEN = {"fares.py": "RATE = 4\n"}


@pytest.mark.parametrize(
    ("header", "body", "files"),
    [
        (
            "--- /dev/null\n+++ b/main.py\n",
            "@@ -0,0 +1,2 @@\n+import fares\n+print(fares.RATE)\n",
            {"main.py", "fares.py"},
        ),
        ("--- a/main.py\n+++ b/main.py\n", "@@ -1 +1 @@\n-x\n+y\n", set()),  # changes what is not there
        ("--- a/fares.py\n+++ b/fares.py\n", "@@ -1 +1 @@\n RATE = 4\n", set()),  # changes nothing
        ("--- /dev/null\n+++ /dev/null\n", "@@ -1 +1 @@\n+y\n", set()),
        ("--- a/x\n+++ b/x\n", f"@@ -{'9' * 5000} +1 @@\n-a\n+b\n", set()),
    ],
)
def test_a_diff_may_make_the_asked_file_and_one_of_nothing_is_none(header, body, files):
    wanted = Wanted(language="python", file="main.py", given=GIVEN)
    found = extract_answer(f"```diff\n{header}{body}```", wanted)
    assert set(found.files) == files


def test_a_class_name_too_long_for_a_file_names_none():
    found = extract_answer(f"```java\npublic class {'A' * 5000} {{}}\n```", Wanted(language="any", file="answer"))
    assert found.main == "Main.java"


def test_hostile_texts_take_linear_time():
    """In a process with a bound on processor time: what is quadratic in any of them would take many times as long."""
    code = (
        "import odd_replies as odd\n"
        "frames = list(odd.FRAMES)\n"
        "for number, piece in enumerate(odd.PIECES):\n"
        "    for frame in {'alone', frames[number % len(frames)]}:\n"
        "        for form in odd.FORMS:\n"
        "            odd.take(odd.one_text(piece, frame, 40_000), odd.FORMS[form])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", f"import sys\nsys.path[:0] = {sys.path!r}\n{code}"],
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_CPU, (120, 121)),
    )
    assert done.returncode == 0, done.stderr[-2000:] or f"stopped by signal {-done.returncode}: some text is not linear"


def test_thinking_does_not_change_what_is_asked_of_a_gap():
    wanted = msgspec.structs.replace(PYTHON, gap=Gap(opening="def berth_of(ship):\n"), continued=True)
    assert taken("    return ship[0]\n\n\nprint(1)\n", wanted) == CODE
