"""Marks of a wrong prompt style in a short known exchange: told before hours are spent on it."""

import re

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
        signs.append("the reply goes on with another speaker's turn")
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
    found: dict[str, object] = {}
    if depth > 8:
        return found
    if isinstance(echoed, dict):
        for name, value in echoed.items():
            wanted = sent.get(name)
            if isinstance(wanted, int | float) and isinstance(value, int | float):
                if abs(value - wanted) > 1e-6 * max(1.0, abs(wanted)):  # servers hold them in single precision
                    found[name] = value
            else:
                found |= differing_echoes(sent, value, depth + 1)
    elif isinstance(echoed, list):
        for item in echoed[:64]:
            found |= differing_echoes(sent, item, depth + 1)
    return found
