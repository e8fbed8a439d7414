"""Thinking that comes in the text of a reply, set aside; a field of its own is set aside by the client."""

import re

_NAMES = r"(?:think|thinking|thought|thoughts|reasoning|reflection)"
_TAG = rf"(?:<{_NAMES}>|\[(?:THINK|REASONING)\])"
_OPEN, _OPEN_ANYWHERE = (re.compile(pattern, re.IGNORECASE) for pattern in (rf"\s*{_TAG}", _TAG))
_CLOSE = re.compile(rf"</{_NAMES}>|\[/(?:THINK|REASONING)\]", re.IGNORECASE)
# channel markers: each part of the reply begins with the channel's name, and the answer's is called final
_CHANNEL = re.compile(r"<\|channel\|>[ ]*(?P<name>[a-z]{1,20})[^<\n]{0,80}<\|message\|>")
_CHANNEL_END = re.compile(r"<\|(?:end|return|call|start|channel)\|>")
_QUOTES = "`'\"\u201c\u201d\u2018\u2019"
_OPEN_LINE = re.compile(rf"^[ \t]*{_TAG}", re.IGNORECASE | re.MULTILINE)
_FENCE = re.compile(r"^[ \t]*(`{3,}|~{3,})", re.MULTILINE)
SET_ASIDE = ("thinking set aside",)
NEVER_ENDED = ("thinking never ended: all of the reply is thinking",)


def without_thinking(text: str) -> tuple[str, tuple[str, ...]]:
    """The reply that follows the thinking, and a remark where there was some.

    Thinking stands at the start, between tags. It ends at the first closing tag that is not in quotes: thinking may
    quote its tag, and what follows its end may be code that holds one. Where a prompt template opened the tag, only
    the closing one is in the reply; what stands before it is thinking, if it stands at an end of its line
    and outside code.
    """
    channelled = _final_channel(text)
    if channelled is not None:
        return channelled
    at = _after_tags(text, 0)
    if at == 0:
        closing = _first_unquoted(text, 0)
        if closing is not None and (opening := _opening_before(text, closing.start())) is not None:
            return text[: opening.start()] + text[closing.end() :], SET_ASIDE
        if closing is not None and _ends_thinking(text, closing):
            at = _after_tags(text, closing.end())
    if at is None:
        return "", NEVER_ENDED
    return (text[at:], SET_ASIDE) if at else (text, ())


def _after_tags(text: str, at: int) -> int | None:
    """Where the thinking that begins here, part after part, has ended; None: it never does."""
    while (opening := _OPEN.match(text, at)) is not None:
        closing = _first_unquoted(text, opening.end())
        if closing is None:
            return None
        at = closing.end()
    return at


def _first_unquoted(text: str, start: int) -> "re.Match[str] | None":
    for match in _CLOSE.finditer(text, start):
        before, after = text[match.start() - 1 : match.start()], text[match.end() : match.end() + 1]
        opens_fence = text.startswith("```", match.end())
        if not (before and before in _QUOTES) and not (after and after in _QUOTES and not opens_fence):
            return match
    return None


def _opening_before(text: str, end: int) -> "re.Match[str] | None":
    """The tag that opens thinking after some words of the reply: on a line of its own, outside code."""
    opening = _OPEN_LINE.search(text, 0, end)
    if opening is None or len(_FENCE.findall(text, 0, opening.start())) % 2:
        return None
    return opening


def _ends_thinking(text: str, closing: "re.Match[str]") -> bool:
    """Whether a closing tag without its opening one ends thinking, rather than being part of prose or code."""
    line_start = text.rfind("\n", 0, closing.start()) + 1
    line_end = text.find("\n", closing.end())
    rest = text[closing.end() : line_end if line_end >= 0 else len(text)]
    if text[line_start : closing.start()].strip() and rest.strip():
        return False
    before = text[: closing.start()]
    return len(_FENCE.findall(before)) % 2 == 0 and _OPEN_ANYWHERE.search(before) is None


def _final_channel(text: str) -> tuple[str, tuple[str, ...]] | None:
    """The channel that holds the answer; None where the reply has no channels."""
    first = _CHANNEL.match(text.lstrip().removeprefix("<|start|>assistant"))
    if first is None:
        return None
    final = next((match for match in _CHANNEL.finditer(text) if match["name"] == "final"), None)
    if final is None:
        return "", NEVER_ENDED
    end = _CHANNEL_END.search(text, final.end())
    return text[final.end() : end.start() if end is not None else len(text)], SET_ASIDE
