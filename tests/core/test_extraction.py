"""Replies of many shapes, each with the program that must be found in it."""

from functools import partial

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.extraction import extract as extraction
from kettlefield.core.extraction.fences import find_blocks
from kettlefield.core.extraction.wanted import Wanted
from kettlefield.languages.all_languages import LANGUAGES

extract_answer = partial(extraction.extract_answer, languages=LANGUAGES)

PYTHON = Wanted(language="python", file="answer.py", entry="berth_of")
SCRIPT = Wanted(language="javascript", file="answer.js")
CODE = "def berth_of(ship):\n    return ship[0]\n"
JS = 'const fs = require("fs");\nconsole.log(fs.readFileSync(0, "utf8"));\n'

SHAPES = {
    "plain fence": f"```python\n{CODE}```\n",
    "prose around": f"Here it is:\n\n```python\n{CODE}```\n\nIt works for every ship.",
    "tildes": f"~~~~py\n{CODE}~~~~\n",
    "long fence": f"`````Python3\n{CODE}`````\n",
    "no tag": f"```\n{CODE}```",
    "info with attributes": f"```python title=answer.py\n{CODE}```",
    "in a list": "1. The program:\n\n   ```python\n   def berth_of(ship):\n       return ship[0]\n   ```\n2. Done.",
    "after a list mark": "- ```python\n  def berth_of(ship):\n      return ship[0]\n  ```\n",
    "in a quotation": "> ```python\n> def berth_of(ship):\n>     return ship[0]\n> ```\n",
    "usage example first": f"Run it:\n```python\nprint(berth_of('Teal'))\n```\nwith\n```python\n{CODE}```",
    "usage example last": f"```python\n{CODE}```\nThen:\n```python\nberth_of('Teal')\n```",
    "shell and output around": f"```sh\npip list\n```\n```python\n{CODE}```\n```text\nT\n```",
    "json beside": f'```json\n{{"berth_of": "T"}}\n```\n```\n{CODE}```',
    "thinking tags": f"<think>\n```python\ndef berth_of(x): pass\n```\n</think>\n```python\n{CODE}```",
    "thinking that names its tag": f"<think>I end with </think>, so</think>\n```python\n{CODE}```",
    "carriage returns": f"```python\n{CODE}```".replace("\n", "\r\n"),
    "byte order mark": f"\ufeff```python\n{CODE}```",
    "bare code": CODE,
    "bare code with prose": f"Sure, this should do.\n\n{CODE}\nI hope that helps!\n",
    "interpreter transcript": "```pycon\n>>> def berth_of(ship):\n...     return ship[0]\n```",
    "tag in braces": f"```{{.python}}\n{CODE}```",
    "file name before": f"**answer.py**\n\n```\n{CODE}```\n\n```\nprint(1)\nprint(2)\nprint(3)\n```",
    "other language first": f"```js\nfunction berth_of(s) {{ return s[0]; }}\n```\n```python\n{CODE}```",
    "diff and log beside": f"```diff\n-a\n+b\n```\n```log\nok\n```\n```python\n{CODE}```",
    "empty block first": f"```python\n```\n```python\n{CODE}```",
    "two versions, the last with the entry": f"```python\ndef berth(ship): pass\n```\nBetter:\n```python\n{CODE}```",
    "smart quotes outside": f"\u201cSure\u201d\n```python\n{CODE}```",
    "reasoning tags in capitals": f"<REASONING>\nhm\n</REASONING>\n```python\n{CODE}```",
    "bare after a note": f"Note that ships may be empty.\n{CODE}",
    "bare with tildes in prose": f"About ~3 lines:\n\n{CODE}",
    "numbered list after": f"```python\n{CODE}```\n\n1. It takes the first letter.\n2. It returns it.",
    "table after": f"```python\n{CODE}```\n\n| ship | berth |\n| --- | --- |\n| Teal | T |",
    "indented closing fence": f"```python\n{CODE}  ```\n",
    "longer closing fence": f"```python\n{CODE}`````\n",
    "fence inside a fence": f"````markdown-ish\n{CODE}````",
}


@pytest.mark.parametrize("name", SHAPES)
def test_the_program_is_found_in(name):
    found = extract_answer(SHAPES[name], PYTHON)
    assert found.files, found.how
    assert found.text.strip() == CODE.strip()
    assert (found.main, found.cut) == ("answer.py", False)


@pytest.mark.parametrize("reply", [f"```js\n{JS}```", f"```JavaScript\n{JS}```", JS, f"Run it:\n\n{JS}"])
def test_a_javascript_program_is_found(reply):
    assert extract_answer(reply, SCRIPT).text.strip() == JS.strip()


@pytest.mark.parametrize(
    "reply",
    ["", "I cannot help with that.", "```text\nnothing here\n```", "<think>still thinking\n```python\nx = 1\n```"],
)
def test_a_reply_without_a_program_has_no_answer(reply):
    found = extract_answer(reply, PYTHON)
    assert found.files == {}
    assert found.how


def test_typography_is_repaired_only_where_the_code_does_not_parse():
    broken = "def berth_of(ship):\n\u00a0\u00a0\u00a0\u00a0return \u201cB\u201d + ship[0]\n"
    found = extract_answer(f"```python\n{broken}```", PYTHON)
    assert found.text == 'def berth_of(ship):\n    return "B" + ship[0]\n'
    assert "did not parse" in found.remarks[0]
    meant = "def berth_of(ship):\n    return ship.strip('\u201c\u201d\u00a0')\n"
    kept = extract_answer(f"```python\n{meant}```", PYTHON)
    assert (kept.text, kept.remarks) == (meant, ())
    hopeless = "def berth_of(ship:\n    return \u201cB\u201d\n"
    assert extract_answer(f"```python\n{hopeless}```", PYTHON).text == hopeless


def test_an_unclosed_block_is_kept_and_marked():
    found = extract_answer(f"```python\n{CODE}", PYTHON)
    assert (found.text, found.cut) == (CODE, True)
    assert "never ended" in found.remarks[0]


def test_another_language_is_taken_only_for_want_of_better():
    both = extract_answer(f"```js\nfunction f() {{}}\n```\n```python\n{CODE}```", PYTHON)
    assert both.text == CODE
    assert extract_answer("```js\nfunction f() {}\n```", PYTHON).text == "function f() {}\n"


@given(st.text(max_size=400))
def test_extraction_never_raises_and_invents_nothing(reply):
    for wanted in (PYTHON, SCRIPT):
        for text in extract_answer(reply, wanted).files.values():
            assert all(ch in reply for ch in text.replace("\n", ""))


@given(
    st.text(st.characters(blacklist_characters="`~\r", blacklist_categories=["Cs"]), min_size=1), st.sampled_from("`~")
)
def test_a_fenced_text_comes_back_whole(body, mark):
    blocks = find_blocks(f"{mark * 3}\n{body}\n{mark * 3}")
    assert [block.text for block in blocks] == [body + "\n"]


def test_thousands_of_blocks_and_a_very_long_line_take_linear_work():
    # a quadratic reading of this would not end within the test's time limit
    reply = "```text\nx\n```\n" * 20_000 + "y" * 2_000_000 + f"\n```python\n{CODE}```"
    assert extract_answer(reply, PYTHON).text == CODE
