"""From what a model wrote to the files it meant: no one copies code out of replies by hand."""

import ast
import re
from dataclasses import dataclass

from kettlefield.core.fences import Block, find_blocks
from kettlefield.core.languages import LANGUAGES, NO_PROGRAM, language_of_alias

# how replies mark their thinking when it comes in the text; the field apart is set aside by the client
_THINKING_OPEN = re.compile(r"^\s*<(think|thinking|reasoning)>", re.IGNORECASE)
_THINKING_CLOSE = re.compile(r"</(?:think|thinking|reasoning)>", re.IGNORECASE)
_SHELL_INFO = frozenset({"bash", "sh", "shell", "zsh", "console", "powershell", "cmd"})
# what word processors and web pages put in the place of plain characters
_TYPOGRAPHY = {
    **dict.fromkeys("\u2018\u2019", "'"),
    **dict.fromkeys("\u201c\u201d", '"'),
    **dict.fromkeys("\u00a0\u2007\u202f", " "),
    **dict.fromkeys("\u2013\u2212", "-"),
    **dict.fromkeys("\u200b\u200c\u200d\u2060\ufeff", ""),
}
_PLAIN = str.maketrans(_TYPOGRAPHY)
# a line that can start a program, for replies without any fence
_CODE_START = {
    "python": re.compile(r"^(?:from\s+\S+\s+import\s|import\s+\w|def\s+\w+\s*\(|class\s+\w+|@\w+|async\s+def\s|#!)"),
    "javascript": re.compile(
        r"^(?:function\b|const\s|let\s|var\s|class\s+\w|import\s.+from|export\s|async\s+function|\"use strict\"|"
        r"'use strict'|#!|//|/\*)"
    ),
    "c": re.compile(r"^(?:#include\b|#define\b|int\s+main\b|static\s|/\*|//)"),
    "cpp": re.compile(r"^(?:#include\b|#define\b|using\s|int\s+main\b|template\s*<|/\*|//)"),
    "rust": re.compile(r"^(?:use\s|fn\s|pub\s|struct\s|enum\s|impl\b|mod\s|#!?\[|//)"),
    "java": re.compile(r"^(?:import\s|package\s|public\s|class\s|final\s|record\s|/\*|//)"),
    "go": re.compile(r"^(?:package\s|//|/\*)"),
    "bash": re.compile(r"^(?:#!|set\s+-|declare\s|while\s|for\s|if\s+\[|\w+\(\)\s*\{|\w+=|#\s)"),
    "sql": re.compile(r"^(?:select|with|create|insert|update|delete)\b", re.IGNORECASE),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What the exercise asks for, as far as it guides the choice among blocks."""

    language: str
    file: str  # name that the extracted text gets
    entry: str | None = None  # function that must be there; None for a whole program


@dataclass(frozen=True, slots=True, kw_only=True)
class AnswerFile:
    """One file of an answer."""

    name: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """What was found in a reply; without files there is no answer, and ``how`` says why."""

    files: tuple[AnswerFile, ...]
    how: str
    remarks: tuple[str, ...] = ()
    cut: bool = False  # the block that was taken never ended


def extract_answer(reply: str, wanted: Wanted) -> Answer:
    """Find the asked-for program in a reply.

    Blocks are judged by what the exercise asks - language, entry name, the file named beside the block -
    and only then by position. Never raises, whatever the reply holds.

    Parameters
    ----------
    reply : str
        All that the model wrote, without a reasoning field.
    wanted : Wanted
        The language, and the function's name if a function is asked for.
    """
    text = reply.replace("\r\n", "\n").replace("\r", "\n").removeprefix("\ufeff")
    text, remarks = _set_thinking_aside(text)
    blocks = find_blocks(text)
    if blocks:
        answer = _from_blocks(blocks, wanted)
    elif (bare := _bare_code(text, wanted)) is not None:
        answer = _answer(bare, wanted, how="no fence: code taken from the bare text")
    else:
        answer = Answer(files=(), how="no code block, and no line that starts a program")
    return Answer(files=answer.files, how=answer.how, remarks=(*remarks, *answer.remarks), cut=answer.cut)


def _set_thinking_aside(text: str) -> tuple[str, tuple[str, ...]]:
    if not _THINKING_OPEN.match(text):
        return text, ()
    closings = list(_THINKING_CLOSE.finditer(text))
    if not closings:
        return "", ("thinking never ended: all of the reply is thinking",)
    return text[closings[-1].end() :], ("thinking set aside",)  # the last: thinking may quote the tag itself


def _from_blocks(blocks: tuple[Block, ...], wanted: Wanted) -> Answer:
    scores = [_score(block, wanted) for block in blocks]
    best = max(range(len(blocks)), key=lambda index: (scores[index], index))
    if scores[best] < 0:
        return Answer(files=(), how=f"{len(blocks)} blocks, none of them {LANGUAGES[wanted.language].title} code")
    block = blocks[best]
    how = "the only block" if len(blocks) == 1 else f"block {best + 1} of {len(blocks)}"
    return _answer(_without_prompts(block.text, wanted), wanted, how=how, cut=not block.closed)


def _score(block: Block, wanted: Wanted) -> int:
    """Higher is likelier; below 0 is never taken."""
    tag = block.info.split()[0].strip("{}.,").lower() if block.info.split() else ""
    if not block.text.strip() or tag in NO_PROGRAM or (tag in _SHELL_INFO and wanted.language != "bash"):
        return -1
    named = language_of_alias(tag) if tag else None
    score = 0
    if named == wanted.language:
        score += 4
    elif named is not None:
        # another language is an answer too - a wrong one - when nothing better is there
        score += 1
    elif tag:
        score += 1
    else:
        score += 2
    if wanted.entry and _defines(block.text, wanted.entry):
        score += 16
    if wanted.file in block.info or wanted.file in block.before or wanted.file in block.text.split("\n", 1)[0]:
        score += 8
    # a program is longer than its usage example
    return score * 4 + min(3, block.text.count("\n") // 8)


def _defines(text: str, entry: str) -> bool:
    name = re.escape(entry)
    return (
        re.search(rf"\b(?:def|function|class)\s*\*?\s+{name}\b|\b{name}\s*[=:]\s*(?:async\b|function\b|\()", text)
        is not None
    )


def _bare_code(text: str, wanted: Wanted) -> str | None:
    """Code without a fence: from the first line that starts a program, as far as it parses."""
    pattern = _CODE_START[wanted.language]
    lines = text.split("\n")
    start = next((index for index, line in enumerate(lines) if pattern.match(line)), None)
    if start is None:
        return None
    code = lines[start:]
    if wanted.language == "python":
        code = _longest_that_parses(code)
    return "\n".join(code).rstrip("\n") + "\n"


def _longest_that_parses(lines: list[str]) -> list[str]:
    """Cut closing prose: drop lines from the first error on, as long as that helps (each pass shortens)."""
    kept = lines
    for _ in range(20):  # prose after code is found in one or two passes; the bound keeps hostile text cheap
        try:
            ast.parse("\n".join(kept))
        except SyntaxError as err:
            cut = min((err.lineno or 1) - 1, len(kept) - 1)
            if cut <= 0:
                break
            kept = kept[:cut]
        except (ValueError, RecursionError, MemoryError):
            break
        else:
            return kept
    return lines


def _without_prompts(text: str, wanted: Wanted) -> str:
    """A transcript of the interactive interpreter, turned back into the program."""
    lines = text.split("\n")
    if wanted.language != "python" or not lines[0].startswith(">>> "):
        return text
    kept = [line[4:] for line in lines if line.startswith((">>> ", "... ")) or line in {">>>", "..."}]
    return "\n".join(kept) + "\n"


def _answer(text: str, wanted: Wanted, *, how: str, cut: bool = False) -> Answer:
    remarks = ["the block never ended"] if cut else []
    repaired = _repaired(text, wanted)
    if repaired is not None:
        text = repaired
        remarks.append("typographic quotes, spaces or invisible characters replaced: as given it did not parse")
    return Answer(files=(AnswerFile(name=wanted.file, text=text),), how=how, remarks=tuple(remarks), cut=cut)


def _repaired(text: str, wanted: Wanted) -> str | None:
    """Python whose only fault is what a word processor does to code; None when it parses, or is at fault otherwise."""
    if wanted.language != "python" or not any(ch in text for ch in _TYPOGRAPHY):
        return None
    plain = text.translate(_PLAIN)
    return plain if plain != text and not _parses(text) and _parses(plain) else None


def _parses(text: str) -> bool:
    try:
        ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    return True
