"""Which of a reply's blocks is the program that was asked for, and what file each one is."""

import re

from kettlefield.core.extraction.code_text import can_run, definitions, is_whole, missing, units
from kettlefield.core.extraction.fences import Block
from kettlefield.core.extraction.syntax import ANY, NO_PROGRAM, Syntax, Syntaxes
from kettlefield.core.extraction.wanted import Wanted

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


def tag_of(block: Block) -> str:
    """The language tag of a block's info string in small letters, without braces, dot or file name."""
    words = re.split(r"[\s:,{}]+", block.info.strip("{} "), maxsplit=1)
    return words[0].strip(".").lower()


def language_of(block: Block, languages: Syntaxes) -> str | None:
    """The language that a block's tag, or the suffix of a file name in its place, stands for."""
    return languages.of_alias(tag_of(block)) or languages.of_suffix(tag_of(block))


def name_of(block: Block) -> str | None:
    """The file name that stands with a block: in its info string, its first line's comment, or the line before."""
    for pattern, text in (
        (_IN_INFO, block.info[:300]),
        (_IN_COMMENT, block.text.split("\n", 1)[0][:300]),
        (_IN_LINE, block.before[:300]),
        (_QUOTED_AT_END, block.before[-300:]),
    ):
        match = pattern.search(text)
        if match is not None:
            return match["name"]
    return None


def best_block(blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> int | None:
    """Index of the block that is likeliest the program; None when none is one.

    Judged by what the exercise asks - language, entry, the file named beside the block - and only then by
    size and position.
    """
    scores = [_score(block, wanted, languages) for block in blocks]
    best = max(range(len(blocks)), key=lambda index: (scores[index], index), default=None)
    return best if best is not None and scores[best] >= 0 else None


def choose_blocks(blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> tuple[int, ...]:
    """Indices of the blocks that together are the program, in the reply's order; none when none is one.

    The likeliest block, or a later whole one that defines again what it is for: a correction counts even when it
    is shorter. Others of its language join it where they define what it uses, where only all together parse, or, for a
    program that does nothing by itself, where they run it - as long as no two of them define the same.
    """
    best = best_block(blocks, wanted, languages)
    if best is None:
        return ()
    name = wanted.language
    if name not in languages.programs:
        name = language_of(blocks[best], languages) or languages.guess(blocks[best].text) or ""
    if name not in languages:
        return (best,)
    known, entry = languages[name], wanted.entry
    fellows = [
        number
        for number, block in enumerate(blocks)
        if block.text.strip()
        and name == (language_of(block, languages) or (languages.guess(block.text) if not tag_of(block) else None))
    ]
    if best not in fellows:
        return (best,)
    chosen = _corrected(blocks, fellows, best, known, entry)
    before = _corrected_by(blocks, fellows, chosen, known)
    # a program that runs by itself would do so before the one that corrects it
    if before is not None and (entry is not None or not can_run(blocks[before].text, known)):
        return (before, chosen)
    return _joined(blocks, fellows, chosen, known, is_program=entry is None)


def _corrected_by(blocks: tuple[Block, ...], fellows: list[int], chosen: int, language: Syntax) -> int | None:
    """The earlier block that the chosen one corrects in part, and still needs; None: there is none."""
    text = blocks[chosen].text
    made, needed = units(text, language), missing(text, language)
    for number in reversed(fellows) if language.last_wins else ():
        other = definitions(blocks[number].text, language)
        if number < chosen and other & made and other & needed and is_whole(blocks[number].text, language):
            return number
    return None


def _corrected(blocks: tuple[Block, ...], fellows: list[int], best: int, language: Syntax, entry: str | None) -> int:
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
    blocks: tuple[Block, ...], fellows: list[int], chosen: int, language: Syntax, *, is_program: bool
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


def _score(block: Block, wanted: Wanted, languages: Syntaxes) -> int:
    """Higher is likelier; below 0 is never taken."""
    tag, file, entry = tag_of(block), wanted.file, wanted.entry
    if not block.text.strip() or tag in NO_PROGRAM:
        return -1
    # commands to type, unless a script of a shell is what was asked for
    if tag in _SHELL_INFO and wanted.language != ANY and languages.of_alias(tag) != wanted.language:
        return -1
    score = _language_score(block, tag, wanted.language, languages)
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


def _language_score(block: Block, tag: str, language: str, languages: Syntaxes) -> int:
    named = language_of(block, languages)
    if language == ANY and named in languages.programs:
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


def title_of(language: str, languages: Syntaxes) -> str:
    """A language's name for messages."""
    return languages[language].title if language in languages else "program"
