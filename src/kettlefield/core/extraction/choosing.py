"""Which of a reply's blocks is the program that was asked for, and what file each one is."""

import re

from kettlefield.core.extraction.code_text import can_run, definitions, is_whole, missing, units
from kettlefield.core.extraction.fences import Block
from kettlefield.core.languages import (
    ANY,
    LANGUAGES,
    NO_PROGRAM,
    PROGRAM_LANGUAGES,
    language_of_alias,
    language_of_suffix,
)

MOST_GUESSED_CHARS = 20_000  # enough to know a language by; each sign is looked for in all of it
# where the same name may be defined twice and the last counts: a correction may stand behind what it corrects
_LAST_WINS = frozenset({"python", "bash"})
MOST_JOINED = 12  # blocks of one program; more is not a small one
_SHELL_INFO = frozenset({"bash", "sh", "shell", "zsh", "console", "powershell", "cmd"})
_NAME = r"(?P<name>[^\s`*\"'<>|:,;()\[\]{}=]*[^\s`*\"'<>|:,;()\[\]{}=.]\.[A-Za-z]\w{0,7})"
_IMPORTS_IT = re.compile(r"^[ \t]*(?:from|import)\b|\brequire\(", re.MULTILINE)
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
    ("java", re.compile(r"\bpublic\s++(?:final\s++)?class\b|\bstatic\s++void\s++main\b")),
    ("cpp", re.compile(r"#include\s*+<(?:iostream|vector|string|map|algorithm|array|cstd\w+)>|\bstd::")),
    ("c", re.compile(r"#include\s*+[<\"]")),
    ("rust", re.compile(r"\bfn\s++\w++\s*+[(<]|\blet\s++mut\b|\bprintln!")),
    ("bash", re.compile(r"\A#!.*\b(?:ba)?sh\b|\bdone[ \t]*+(?:<|$)|\bfi[ \t]*+$|\besac\b", re.M)),
    (
        "python",
        re.compile(
            r"^[ \t]*(?:def[ \t]+\w+[ \t]*\(|from[ \t]+\S+[ \t]+import\b|import[ \t]+\w+[ \t]*$"
            r"|class[ \t]+\w+.*:[ \t]*$|print\()",
            re.M,
        ),
    ),
    ("javascript", re.compile(r"\brequire\(|\b(?:const|let|var)\s++[\w{\[]|\bconsole\.log\(|\bfunction\b|=>")),
    ("sql", re.compile(r"^[ \t]*(?:select|with|insert|create|update|delete)\b", re.I | re.M)),
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
    head = text[:MOST_GUESSED_CHARS]
    return next((name for name, sign in _SIGNS if sign.search(head)), None)


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


def choose_blocks(blocks: tuple[Block, ...], language: str, file: str, entry: str | None) -> tuple[int, ...]:
    """Indices of the blocks that together are the program, in the reply's order; none when none is one.

    The likeliest block, or a later whole one that defines again what it is for: a correction counts even when it
    is shorter. Others of its language join it where they define what it uses, where only all together parse, or, for a
    program that does nothing by itself, where they run it - as long as no two of them define the same.
    """
    best = best_block(blocks, language, file, entry)
    if best is None:
        return ()
    known = (
        language if language in PROGRAM_LANGUAGES else language_of(blocks[best]) or guess_language(blocks[best].text)
    )
    if known is None:
        return (best,)
    fellows = [
        number
        for number, block in enumerate(blocks)
        if block.text.strip()
        and known == (language_of(block) or (guess_language(block.text) if not tag_of(block) else None))
    ]
    if best not in fellows:
        return (best,)
    chosen = _corrected(blocks, fellows, best, known, entry)
    before = _corrected_by(blocks, fellows, chosen, known)
    # a program that runs by itself would do so before the one that corrects it
    if before is not None and (entry is not None or not can_run(blocks[before].text, known)):
        return (before, chosen)
    return _joined(blocks, fellows, chosen, known, is_program=entry is None)


def _corrected_by(blocks: tuple[Block, ...], fellows: list[int], chosen: int, language: str) -> int | None:
    """The earlier block that the chosen one corrects in part, and still needs; None: there is none."""
    text = blocks[chosen].text
    made, needed = units(text, language), missing(text, language)
    for number in reversed(fellows) if language in _LAST_WINS else ():
        other = definitions(blocks[number].text, language)
        if number < chosen and other & made and other & needed and is_whole(blocks[number].text, language):
            return number
    return None


def _corrected(blocks: tuple[Block, ...], fellows: list[int], best: int, language: str, entry: str | None) -> int:
    """The last whole block that defines what the best one is for."""
    wanted = frozenset({entry}) if entry is not None else units(blocks[best].text, language)
    is_best_whole = is_whole(blocks[best].text, language)
    for number in reversed(fellows):
        if number < best and is_best_whole:
            break
        text = blocks[number].text
        again = defines(text, entry) if entry is not None else bool(wanted) and wanted <= units(text, language)
        if (
            again
            and blocks[number].closed
            and is_whole(text, language)
            and (entry is not None or can_run(text, language))
        ):
            return number
    return best


def _joined(
    blocks: tuple[Block, ...], fellows: list[int], chosen: int, language: str, *, is_program: bool
) -> tuple[int, ...]:
    if len(fellows) == 1:
        return (chosen,)
    made = {number: definitions(blocks[number].text, language) for number in fellows}
    parts, needed = {chosen}, missing(blocks[chosen].text, language)
    runs = not is_program or can_run(blocks[chosen].text, language)
    for _ in range(MOST_JOINED):
        taken = frozenset().union(*(made[number] for number in parts))
        more = next(
            (
                number
                for number in fellows
                if number not in parts
                and not made[number] & taken
                and (
                    made[number] & needed
                    or (
                        not runs
                        and can_run(blocks[number].text, language)
                        and missing(blocks[number].text, language) & taken
                    )
                )
            ),
            None,
        )
        if more is None:
            break
        parts.add(more)
        needed |= missing(blocks[more].text, language)
        runs = runs or can_run(blocks[more].text, language)
    if len(parts) == 1 and blocks[chosen].closed and not is_whole(blocks[chosen].text, language):
        whole = "".join(blocks[number].text for number in fellows)
        if is_whole(whole, language):
            return tuple(fellows)
    return tuple(sorted(parts))


def _score(block: Block, language: str, file: str, entry: str | None) -> int:
    """Higher is likelier; below 0 is never taken."""
    tag = tag_of(block)
    if not block.text.strip() or tag in NO_PROGRAM or (tag in _SHELL_INFO and language not in {"bash", ANY}):
        return -1
    score = _language_score(block, tag, language)
    if entry and defines(block.text, entry):
        score += 16
    if file and _IMPORTS_IT.search(block.text) and _imports(block.text, file):
        score -= 4  # it tries the answer out
    if file in block.info or file in block.before or file in block.text.split("\n", 1)[0]:
        score += 8
    # a program is longer than its usage example
    return score * 4 + min(3, block.text.count("\n") // 8)


def _imports(text: str, file: str) -> bool:
    """Whether a block takes the answer's own file in: its test, or an example of its use."""
    stem = re.escape(file.rsplit("/", 1)[-1].rsplit(".", 1)[0])
    return re.search(rf"^[ \t]*(?:from|import)[ \t]+{stem}\b|\(\s*+['\"]\./{stem}", text, re.MULTILINE) is not None


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
        # possessive: white space, however much, is read once
        rf"\b(?:def|function|class|fn|func|struct)(?:\s++|\s*+\*\s*+){name}\b",
        rf"\b{name}\s*+[=:]\s*+(?:async\b|function\b|lambda\b|\(|\w++\s*+=>)",
        rf"^[^\n;(){{}}]*?\b{name}\s*+\((?:[^;{{}}()]++|\([^;{{}}()]{{0,200}}+\)){{0,40}}+\)\s*+(?:const\s*+)?\{{",
    )
    return any(re.search(form, text, re.M) for form in forms)


def title_of(language: str) -> str:
    """A language's name for messages."""
    return LANGUAGES[language].title if language in LANGUAGES else "program"
