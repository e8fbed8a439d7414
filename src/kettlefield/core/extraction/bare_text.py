"""Code in a reply that has no fence, transcripts turned back into programs, and small repairs of typography."""

import re

from kettlefield.core.extraction.code_text import parses, whole_statements
from kettlefield.core.extraction.syntax import Syntax

# what word processors and web pages put in the place of plain characters
_TYPOGRAPHY = {
    **dict.fromkeys("\u2018\u2019", "'"),
    **dict.fromkeys("\u201c\u201d", '"'),
    **dict.fromkeys("\u00a0\u2007\u202f", " "),
    **dict.fromkeys("\u2013\u2212", "-"),
    **dict.fromkeys("\u200b\u200c\u200d\u2060\ufeff", ""),
}
_PLAIN = str.maketrans(_TYPOGRAPHY)
_PAGE = re.compile(r"\s*(?:<!doctype html|<html\b)", re.IGNORECASE)
_SCRIPT_OR_COMMENT = re.compile(r"<!--|<script\b", re.IGNORECASE)
_SOURCE = re.compile(r"\bsrc\s{0,9}=", re.IGNORECASE)


def bare_code(text: str, language: Syntax) -> str | None:
    """Code without a fence: from the first line that starts a program, as far as it parses; None without one."""
    lines, begins = text.split("\n"), language.start
    start = next((index for index, line in enumerate(lines) if begins is not None and begins.match(line)), None)
    if start is None:
        return None
    code = "\n".join(lines[start:])
    if language.structure == "tree":
        code = whole_statements(code) or code
    return code.rstrip("\n") + "\n"


def without_prompts(text: str, language: Syntax) -> str:
    """A transcript of the interactive interpreter, turned back into the program."""
    lines = text.split("\n")
    marks = language.prompts
    if marks is None or not lines[0].startswith(marks[0]):
        return text
    bare = {mark.rstrip() for mark in marks}
    kept = [line[len(marks[0]) :] for line in lines if line.startswith(marks) or line in bare]
    return "\n".join(kept) + "\n"


def scripts_of_page(text: str) -> str | None:
    """The scripts inside an HTML page, one after the other; None when the text is not a page or has none."""
    if not _PAGE.match(text):
        return None
    lowered, at = text.lower(), 0
    scripts: list[str] = []
    while (match := _SCRIPT_OR_COMMENT.search(text, at)) is not None:
        is_comment = match[0] == "<!--"
        begin = match.end() if is_comment else text.find(">", match.end()) + 1
        if begin == 0:
            break
        end = lowered.find("-->" if is_comment else "</script", begin)
        end = len(text) if end < 0 else end
        if not is_comment and not _SOURCE.search(text[match.end() : min(begin, match.end() + 1000)]):
            scripts.append(text[begin:end])
        at = end
    joined = "\n".join(script.strip("\n") for script in scripts if script.strip())
    return joined + "\n" if joined else None


def repaired(text: str, language: Syntax) -> str | None:
    """Python whose only fault is what a word processor does to code; None when it parses, or is at fault otherwise."""
    if language.structure != "tree" or not any(ch in text for ch in _TYPOGRAPHY):
        return None
    plain = text.translate(_PLAIN)
    return plain if plain != text and not parses(text) and parses(plain) else None
