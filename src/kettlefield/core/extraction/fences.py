"""Code blocks in a reply: fenced ones by CommonMark, what a reply breaks by rules of our own, and HTML's."""

import html
import re
from functools import cache

import msgspec
from markdown_it import MarkdownIt
from markdown_it.token import Token

MOST_PARSED_CHARS = 100_000  # a longer reply runs away; the parser would take seconds, the line scanner does not
MOST_BLOCKS = 30_000  # beyond this nothing is looked for
# an opening fence may be indented, and may be in a list item or a quotation
_OPENING = re.compile(r"^(?P<lead>[ \t]*(?:(?:[-*+]|\d{1,9}[.)]|>)[ \t]+)*)(?P<fence>`{3,}|~{3,})(?P<info>[^\n]*)$")
_MOST_CLOSING_INDENT = 3  # CommonMark 0.31, section 4.5
_PRE = re.compile(
    r"^[ \t]*<pre\b[^<>]{0,200}>\s{0,9}<code\b(?P<attributes>[^<>]{0,400})>", re.IGNORECASE | re.MULTILINE
)
_CLASS = re.compile(r"\b(?:language|lang)-(?P<tag>[\w+#-]{1,40})")
_PRE_END = re.compile(r"</code\s{0,9}>\s{0,9}</pre\s{0,9}>", re.IGNORECASE)
_DOCUMENT = re.compile(r"<!doctype\s+html|<html\b", re.IGNORECASE)


class Block(msgspec.Struct, frozen=True, kw_only=True):
    """One block of code."""

    info: str  # what follows the opening fence, stripped
    text: str  # the lines between, with the fence's own indentation removed
    closed: bool
    before: str  # the last line with text before the fence: may name a file


def find_blocks(text: str) -> tuple[Block, ...]:
    """All blocks of code in a text, in order; an unclosed one runs to the end.

    Fences are those of CommonMark. Where a reply breaks its rules - a fence in a list item whose code is not
    indented, a fence indented like code and nothing else, a reply too long to parse - lines are read one by one:
    a fence opens wherever it is indented to, and the next one that may close it does. ``<pre><code>`` counts as a
    block where there is no fence.

    Source
    ------
    CommonMark 0.31, section 4.5: a closing fence uses the same character, is at least as long as the
    opening one, is indented by at most three spaces and carries nothing else; backtick fences may hold no backtick
    in their info string.
    """
    if "```" not in text and "~~~" not in text:
        return _html_blocks(text)
    lines = text.split("\n")
    blocks = _by_commonmark(text, lines) if len(text) <= MOST_PARSED_CHARS else None
    return blocks or _by_lines(lines)


@cache
def _parser() -> MarkdownIt:
    """A parser of blocks that hold fences; what would only cost time is off, and so is HTML, which may hold fences."""
    parser = MarkdownIt("commonmark").disable(["html_block", "reference", "heading", "lheading", "hr"])
    parser.core.ruler.enableOnly(["block"])
    return parser


def _by_commonmark(text: str, lines: list[str]) -> tuple[Block, ...] | None:
    """The fences of a text; None where one of them is broken and lines must be read one by one."""
    blocks: list[Block] = []
    last = len(lines) - (not lines[-1])
    after = 0
    for token in _parser().parse(text if text.endswith("\n") else f"{text}\n"):
        if token.type != "fence" or token.map is None:
            continue
        start, end = token.map
        is_closed = token.content.count("\n") == end - start - 2
        if not is_closed and end < last and _is_broken(token, lines[end:]):
            return None
        blocks.append(
            Block(
                info=token.info.strip(),
                text=token.content if is_closed or text.endswith("\n") else token.content.removesuffix("\n"),
                # the end of its list item or quotation ends a fence too
                closed=is_closed or end < last,
                before=_last_words(lines[after:start]),
            )
        )
        after = end
    return tuple(blocks)


def _is_broken(token: Token, rest: list[str]) -> bool:
    """Whether a fence that its list item or quotation ended was meant to run on, to a fence further down."""
    mark = token.markup
    fences = sum(mark in line and (_closes(line.lstrip(" \t>"), mark) or bool(_OPENING.match(line))) for line in rest)
    return not token.content.strip() or fences % 2 == 1


def _by_lines(lines: list[str]) -> tuple[Block, ...]:
    blocks: list[Block] = []
    after, index = 0, 0
    while index < len(lines) and len(blocks) < MOST_BLOCKS:
        line = lines[index]
        opening = _OPENING.match(line) if "```" in line or "~~~" in line else None
        if opening is None or (opening["fence"][0] == "`" and "`" in opening["info"]):
            index += 1
            continue
        end = _closing_line(lines, index + 1, opening["fence"], opening["lead"])
        body = _without_lead(lines[index + 1 : end], opening["lead"])
        blocks.append(
            Block(
                info=opening["info"].strip(),
                text="".join(line + "\n" for line in body) if end < len(lines) else "\n".join(body),
                closed=end < len(lines),
                before=_last_words(lines[after:index]),
            )
        )
        after = index = end + 1
    return tuple(blocks)


def _without_lead(body: list[str], lead: str) -> list[str]:
    """Lines without what stood before the fence, as far as all of them have it."""
    if not lead:
        return body
    if ">" not in lead:
        indents = [len(line) - len(line.lstrip()) for line in body if line.strip()]
        lead = lead[: min(indents, default=0)]
    return [_dedent(line, lead) for line in body]


def _last_words(lines: list[str]) -> str:
    return next((line.strip() for line in reversed(lines) if line.strip()), "")


def _closing_line(lines: list[str], start: int, fence: str, lead: str) -> int:
    for index in range(start, len(lines)):
        if fence in lines[index] and _closes(_dedent(lines[index], lead), fence):
            return index
    return len(lines)


def _closes(line: str, fence: str) -> bool:
    bare = line.strip()
    indent = len(line) - len(line.lstrip())
    return indent <= _MOST_CLOSING_INDENT and len(bare) >= len(fence) and bare == fence[0] * len(bare)


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


def _html_blocks(text: str) -> tuple[Block, ...]:
    """``<pre><code>`` in a reply that has no fence; in a whole page it is the page's own."""
    if _DOCUMENT.search(text):
        return ()
    blocks: list[Block] = []
    at = 0
    while (opening := _PRE.search(text, at)) is not None:
        ending = _PRE_END.search(text, opening.end())
        end = ending.start() if ending is not None else len(text)
        tag = _CLASS.search(opening["attributes"])
        body = html.unescape(text[opening.end() : end]).strip("\n")
        blocks.append(
            Block(
                info=tag["tag"] if tag is not None else "",
                text=f"{body}\n",
                closed=ending is not None,
                before=_last_words(text[at : opening.start()].split("\n")),
            )
        )
        at = ending.end() if ending is not None else len(text)
    return tuple(blocks)
