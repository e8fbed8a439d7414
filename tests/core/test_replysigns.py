"""Loops and refusals, and what must not be taken for them."""

from pathlib import Path

import pytest

import kettlefield.suites
from kettlefield.core.extraction.reply_symptoms import is_looping, is_refusal

LINE = "    total = total + readings[index]\n"


@pytest.mark.parametrize(
    "text",
    [
        "```python\ndef f():\n" + LINE * 60,
        "word " * 300,
        "```\n" + "\n" * 600,
        "def f():\n    pass\n" + "".join(f"line {i}\n" for i in range(9)) * 40,
        # long lines that compress badly one by one, again and again
        "\n".join(["".join(chr(33 + (i * 7919 + j * 104729) % 90) for j in range(300)) for i in range(5)] * 7)
        + "\ncut",
    ],
)
def test_a_reply_that_repeats_itself_is_looping(text):
    assert is_looping(text)


@pytest.mark.parametrize("text", ["", "x" * 100, "A short reply.", LINE * 3])
def test_a_short_or_plain_reply_is_not(text):
    assert not is_looping(text)


def test_no_program_of_the_built_in_suites_looks_like_a_loop():
    files = [p for p in Path(kettlefield.suites.__path__[0]).rglob("*") if p.is_file() and p.suffix != ".json"]
    assert len(files) > 50
    assert [p for p in files if is_looping(p.read_text())] == []


@pytest.mark.parametrize(
    ("text", "refused"),
    [
        ("I'm sorry, but I can't help with that.", True),
        ("As an AI, I do not write such programs.", True),
        ("I cannot provide this code.", True),
        ("I won\u2019t write that.", True),
        ("Here is the code.", False),
        ("The function cannot help but return early.", False),
        ("x" * 500 + " I'm sorry", False),
    ],
)
def test_refusals(text, refused):
    assert is_refusal(text) is refused
