"""Fenced code blocks in a reply, by the rules of CommonMark, in one pass."""

import re
from dataclasses import dataclass

# an opening fence may be indented, and may stand in a list item or a quotation
_OPENING = re.compile(r"^(?P<lead>[ \t]*(?:(?:[-*+]|\d{1,9}[.)]|>)[ \t]+)*)(?P<fence>`{3,}|~{3,})(?P<info>[^\n]*)$")


@dataclass(frozen=True, slots=True, kw_only=True)
class Block:
    """One fenced block."""

    info: str  # what follows the opening fence, stripped
    text: str  # the lines between, with the fence's own indentation removed
    closed: bool
    before: str  # the last line with text before the fence: may name a file
    start: int  # line numbers in the reply, counted from 0; start is the opening fence
    end: int  # the closing fence, or the number of lines


def find_blocks(text: str) -> tuple[Block, ...]:
    """All fenced blocks of a text, in order; an unclosed one runs to the end.

    Source
    ------
    CommonMark 0.31, section 4.5: a closing fence uses the same character, is at least as long as the
    opening one and carries nothing else; backtick fences may hold no backtick in their info string.
    """
    lines = text.split("\n")
    blocks: list[Block] = []
    before, index = "", 0
    while index < len(lines):
        opening = _OPENING.match(lines[index])
        if opening is None or (opening["fence"][0] == "`" and "`" in opening["info"]):
            before = lines[index].strip() or before
            index += 1
            continue
        end = _closing_line(lines, index + 1, opening["fence"], opening["lead"])
        body = [_dedent(line, opening["lead"]) for line in lines[index + 1 : end]]
        blocks.append(
            Block(
                info=opening["info"].strip(),
                text="".join(line + "\n" for line in body) if end < len(lines) else "\n".join(body),
                closed=end < len(lines),
                before=before,
                start=index,
                end=end,
            )
        )
        before, index = "", end + 1
    return tuple(blocks)


def _closing_line(lines: list[str], start: int, fence: str, lead: str) -> int:
    for index in range(start, len(lines)):
        stripped = _dedent(lines[index], lead).strip()
        if len(stripped) >= len(fence) and stripped == fence[0] * len(stripped):
            return index
    return len(lines)


def _dedent(line: str, lead: str) -> str:
    """The line without as much white space (or quotation marks) as stood before the fence."""
    index = 0
    for wanted in lead:
        if index >= len(line):
            break
        if line[index] in " \t" or line[index] == wanted == ">":
            index += 1
        else:
            break
    return line[index:]
