"""Signs in a reply: repetition, a refusal, a wrong prompt style, thinking in the text, a prompt over the context."""

import re
import zlib

TAIL_CHARS = 2000  # looked at for repetition
MIN_CHARS = 400  # a shorter reply cannot be said to loop
LOOP_RATIO = 0.07  # compressed over plain size; the densest real code that we have seen stays above 0.15
REPEATS = 6  # a block of lines that is repeated this often at the end is a loop, however long its lines are

# the opening of a refusal; asked for only where the reply holds no program
_REFUSAL = re.compile(
    r"\b(?:i(?:'m|\u2019m| am) (?:sorry|unable|not able|afraid)"
    r"|i (?:can(?:'|\u2019)?t|cannot|can not|won(?:'|\u2019)t|will not)"
    r" (?:help|assist|provide|write|do|create|produce|comply|share)|as an ai\b|against my (?:guidelines|policy))",
    re.IGNORECASE,
)
REFUSAL_WITHIN_CHARS = 400


def is_looping(text: str) -> bool:
    """Whether a reply that was stopped by its cap repeats itself at its end.

    The last ``TAIL_CHARS`` characters compress to under ``LOOP_RATIO`` of their size, or a block of lines
    stands ``REPEATS`` times in a row at the end (the last line may be cut).
    """
    tail = text[-TAIL_CHARS:]
    if len(tail) < MIN_CHARS:
        return False
    raw = tail.encode("utf-8", errors="surrogatepass")
    if len(zlib.compress(raw, 9)) < LOOP_RATIO * len(raw):
        return True
    lines = [line.strip() for line in text.rsplit("\n", 400)[-400:]][:-1]
    return any(_repeats(lines, size) for size in range(1, len(lines) // REPEATS + 1))


def is_refusal(text: str) -> bool:
    """Whether a reply without a program declines: one of a few phrases near its beginning."""
    return _REFUSAL.search(text[:REFUSAL_WITHIN_CHARS]) is not None


def _repeats(lines: list[str], size: int) -> bool:
    block = lines[-size:]
    if not any(block):
        return False
    return all(lines[-size * (k + 1) : len(lines) - size * k] == block for k in range(1, REPEATS))


_WORDS = re.compile(
    r"context[ _-]*(?:length|size|window|limit)|(?:exceed|larger|longer|more|greater)\w*[^.]{0,60}\bcontext\b"
    r"|\bcontext\b[^.]{0,40}\b(?:exceed|full|overflow|too (?:small|short))"
    r"|(?:prompt|input|request|sequence)s?\b[^.]{0,30}\btoo (?:long|large|many tokens)"
    r"|too many (?:prompt |input )?tokens"
    r"|max(?:imum)?[ _]*(?:model[ _]*len|(?:input|prompt|sequence|context|position)[^.]{0,30}(?:length|tokens|len))"
    r"|\bn_ctx\b|\btoken limit\b",
    re.IGNORECASE,
)
LOOKED_AT_CHARS = 2000


def says_over_context(words: str) -> bool:
    """Whether a server's error words are about a prompt that does not fit."""
    return _WORDS.search(words[:LOOKED_AT_CHARS]) is not None


ASKED = "Reply with the single word harbour and nothing else."
EXPECTED = "harbour"
# role and turn markers as chat templates write them; a reply that holds one was not stopped by it
_MARKERS = re.compile(
    r"<\|[a-z_]{2,24}\|>|</?s>|\[/?(?:INST|SYS)\]|<(?:start|end)_of_(?:turn|text)>"
    r"|^#{2,3} ?(?:instruction|response|input)\b",
    re.IGNORECASE | re.MULTILINE,
)
_ROLES = re.compile(r"^\s*(?:user|human|assistant|system)\s*:", re.IGNORECASE | re.MULTILINE)


def signs_of_wrong_style(reply: str, *, cap_hit: bool) -> tuple[str, ...]:
    """What in the reply to ``ASKED`` tells that the model was asked in a form it does not know.

    Parameters
    ----------
    reply : str
        All that the model wrote.
    cap_hit : bool
        It was still writing when the token cap ended it.

    Returns
    -------
    tuple of str
        One line a sign; empty when the reply looks as it should.
    """
    signs = []
    marker = _MARKERS.search(reply)
    if marker is not None:
        signs.append(f"the reply holds the marker {marker[0]}")
    if _ROLES.search(reply):
        signs.append("the reply continues with another speaker's turn")
    if cap_hit:
        signs.append("the reply to a one-word request does not end")
    if not reply.strip():
        signs.append("the reply is empty")
    return tuple(signs)


def differing_echoes(sent: dict[str, object], echoed: object, depth: int = 0) -> dict[str, object]:
    """Settings that a server's own words give another value than was sent.

    Parameters
    ----------
    sent : dict
        Name and value of each sampling setting.
    echoed : JSON value
        Anything that the server sent back; names are looked for at every depth up to 8.
    depth : int
        Depth so far.
    """
    differing: dict[str, object] = {}
    if depth > 8:
        return differing
    if isinstance(echoed, dict):
        for name, value in echoed.items():
            wanted = sent.get(name)
            if isinstance(wanted, int | float) and isinstance(value, int | float):
                if abs(value - wanted) > 1e-6 * max(1.0, abs(wanted)):  # servers hold them in single precision
                    differing[name] = value
            else:
                differing |= differing_echoes(sent, value, depth + 1)
    elif isinstance(echoed, list):
        for item in echoed[:64]:
            differing |= differing_echoes(sent, item, depth + 1)
    return differing


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
