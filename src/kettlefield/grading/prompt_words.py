"""Does a prompt say the words that a check's cases hold, and does it keep back what is hidden?"""

import re
from collections.abc import Iterable

MIN_BY_HAND = 3  # cases worked by hand from the prompt: an answer that is itself wrong must not vet clean
MIN_VISIBLE_CHARS = 8  # a shorter expected value may be in a prompt by chance
_WORD = re.compile(r"[A-Za-z][A-Za-z_]{2,}")
_JSON_WORD = re.compile(r"\b(?:true|false|null)\b")


def unsaid(said: str, pairs: Iterable[tuple[str, str]]) -> Iterable[str]:
    """Words that an output must hold and that neither the prompt nor the case's own input holds.

    Parameters
    ----------
    said : str
        All that the model has read.
    pairs : iterable of (str, str)
        What goes in and what must come out, of each case.
    """
    known = {word.lower() for word in _WORD.findall(said)}
    missing: set[str] = set()
    for given, wanted in pairs:
        mine = {word.lower() for word in _WORD.findall(given)}
        letters = set(re.findall(r"\b[A-Za-z]\b", given))
        # a part of a word that went in may be made of it: a code, an initial
        missing |= {
            word
            for word in _WORD.findall(wanted)
            if word.lower() not in known
            and not any(word.lower() in other for other in mine)
            and not set(word) <= letters  # a drawing, made of letters that went in
        }
    if missing:
        shown = ", ".join(sorted(missing)[:6])
        yield f"the prompt never says: {shown}"


def visible_values(said: str, expected: list[str]) -> Iterable[str]:
    """Expected values of cases that are not examples, standing in the prompt."""
    for value in expected:
        if len(value.strip()) >= MIN_VISIBLE_CHARS and value.strip() in said:
            yield f"the prompt shows what a hidden case expects: {value.strip()[:40]}"
            return


def without_json_words(text: str) -> str:
    """The text without truth values and null: they are JSON's words, not the prompt's."""
    return _JSON_WORD.sub("", text)
