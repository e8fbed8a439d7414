"""Which of a reply's blocks is the program that was asked for, and what file each one is."""

import re

from kettlefield.core.fences import Block
from kettlefield.core.languages import (
    ANY,
    LANGUAGES,
    NO_PROGRAM,
    PROGRAM_LANGUAGES,
    language_of_alias,
    language_of_suffix,
)

_SHELL_INFO = frozenset({"bash", "sh", "shell", "zsh", "console", "powershell", "cmd"})
_NAME = r"(?P<name>[^\s`*\"'<>|:,;()\[\]{}=]*[^\s`*\"'<>|:,;()\[\]{}=.]\.[A-Za-z]\w{0,7})"
_IN_INFO = re.compile(rf"(?:^|[\s:=\"'{{]){_NAME}(?:$|[\s\"'}}])")
# a heading, a bold or quoted name, a line that ends in a colon: a sentence that only mentions a file is none
_IN_LINE = re.compile(
    rf"^(?:[-*+#>\s]|\d+[.)])*(?:\*\*|__|`|file(?:name)?\b[:\s]*)*{_NAME}(?:`|\*\*|__|:|\s\([^()]*\)|\s)*$", re.I
)
_QUOTED_AT_END = re.compile(rf"[`*]{_NAME}[`*]+\s*:?\s*$")
_IN_COMMENT = re.compile(rf"^\s*(?:#|//|--|/\*|<!--)\s*(?:file(?:name)?\s*[:=]?\s*)?{_NAME}\s*(?:\*/|-->)?\s*$", re.I)
# signs of a language in code that carries no tag, the surest first
_SIGNS = (
    ("go", re.compile(r"^package \w+", re.M)),
    ("java", re.compile(r"\bpublic\s+(?:final\s+)?class\b|\bstatic\s+void\s+main\b")),
    ("cpp", re.compile(r"#include\s*<(?:iostream|vector|string|map|algorithm|array|cstd\w+)>|\bstd::")),
    ("c", re.compile(r"#include\s*[<\"]")),
    ("rust", re.compile(r"\bfn\s+\w+\s*[(<]|\blet\s+mut\b|\bprintln!")),
    ("bash", re.compile(r"\A#!.*\b(?:ba)?sh\b|\bdone\s*(?:<|$)|\bfi\s*$|\besac\b", re.M)),
    (
        "python",
        re.compile(r"^\s*(?:def\s+\w+\s*\(|from\s+\S+\s+import\b|import\s+\w+\s*$|class\s+\w+.*:\s*$|print\()", re.M),
    ),
    ("javascript", re.compile(r"\brequire\(|\b(?:const|let|var)\s+[\w{\[]|\bconsole\.log\(|\bfunction\b|=>")),
    ("sql", re.compile(r"^\s*(?:select|with|insert|create|update|delete)\b", re.I | re.M)),
)


def tag_of(block: Block) -> str:
    """The language tag of a block's info string in small letters, without braces, dot or file name."""
    words = re.split(r"[\s:,{}]+", block.info.strip("{} "), maxsplit=1)
    return words[0].strip(".").lower()


def language_of(block: Block) -> str | None:
    """The language that a block's tag, or the suffix of a file name in its place, stands for."""
    return language_of_alias(tag_of(block)) or language_of_suffix(tag_of(block))


def guess_language(text: str) -> str | None:
    """The language of untagged code by its most telling constructs, or None."""
    return next((name for name, sign in _SIGNS if sign.search(text)), None)


def name_of(block: Block) -> str | None:
    """The file name that stands with a block: in its info string, its first line's comment, or the line before."""
    for pattern, text in (
        (_IN_INFO, block.info[:300]),
        (_IN_COMMENT, block.text.split("\n", 1)[0][:300]),
        (_IN_LINE, block.before[:300]),
        (_QUOTED_AT_END, block.before[-300:]),
    ):
        found = pattern.search(text)
        if found is not None:
            return found["name"]
    return None


def best_block(blocks: tuple[Block, ...], language: str, file: str, entry: str | None) -> int | None:
    """Index of the block that is likeliest the program; None when none is one.

    Judged by what the exercise asks - language, entry, the file named beside the block - and only then by
    size and position.
    """
    scores = [_score(block, language, file, entry) for block in blocks]
    best = max(range(len(blocks)), key=lambda index: (scores[index], index), default=None)
    return best if best is not None and scores[best] >= 0 else None


def _score(block: Block, language: str, file: str, entry: str | None) -> int:
    """Higher is likelier; below 0 is never taken."""
    tag = tag_of(block)
    if not block.text.strip() or tag in NO_PROGRAM or (tag in _SHELL_INFO and language not in {"bash", ANY}):
        return -1
    score = _language_score(block, tag, language)
    if entry and defines(block.text, entry):
        score += 16
    if file in block.info or file in block.before or file in block.text.split("\n", 1)[0]:
        score += 8
    # a program is longer than its usage example
    return score * 4 + min(3, block.text.count("\n") // 8)


def _language_score(block: Block, tag: str, language: str) -> int:
    named = language_of(block)
    if language == ANY and named in PROGRAM_LANGUAGES:
        return 1 if tag in _SHELL_INFO else 4
    if named == language:
        return 4
    # another language is an answer too - a wrong one - when nothing better is there
    return 1 if tag else 2


def defines(text: str, entry: str) -> bool:
    """Whether a text defines a function or class of that name, in the forms of all our languages."""
    name = re.escape(entry)
    forms = (
        rf"\b(?:def|function|class|fn|func|struct)\s*\*?\s+{name}\b",
        rf"\b{name}\s*[=:]\s*(?:async\b|function\b|\()",
        rf"^[^\n;(){{}}]*?\b{name}\s*\([^;{{}}]{{0,400}}\)\s*(?:const\s*)?\{{",
    )
    return any(re.search(form, text, re.M) for form in forms)


def title_of(language: str) -> str:
    """A language's name for messages."""
    return LANGUAGES[language].title if language in LANGUAGES else "program"
