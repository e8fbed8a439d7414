"""What a server takes beside weights and KV cache: learned from the candidates measured, used to predict the next.

Kept for each server on each rig in the user's cache folder, so that later campaigns, ``weigh`` and ``draft`` know it.
"""

import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import LearnedOverhead, kv_bytes, kv_bytes_per_token
from kettlefield.plan.candidates import Candidate
from kettlefield.record.store import Record
from kettlefield.rig.remembered import recall, recall_all, remember
from kettlefield.rig.survey import own_fingerprint
from kettlefield.weights.formats import read_facts

_STORE = "overheads"


def server_name(command: Sequence[str]) -> str:
    """A server by its command: the program, and for an interpreter the module or script that it runs."""
    words = [word for word in command if word]
    if not words:
        return ""
    name = Path(words[0]).name if words[0] != "{python}" else "python"
    if not name.startswith(("python", "node", "ruby", "java", "bash", "sh")):
        return name
    rest = words[1:]
    if "-m" in rest[:-1]:
        return f"python -m {rest[rest.index('-m') + 1]}"
    script = next((word for word in rest if not word.startswith("-")), "")
    return f"{name} {Path(script).name}".strip()


def known_overhead(command: Sequence[str]) -> LearnedOverhead | None:
    """What was learned of a server on this rig; None: nothing yet."""
    held = recall(_STORE, _key(server_name(command)))
    try:
        return msgspec.convert(held, LearnedOverhead) if held is not None else None
    except msgspec.ValidationError:
        return None


def known_servers() -> tuple[str, ...]:
    """The servers of which something was learned on this rig."""
    mine = f"{own_fingerprint()}|"
    return tuple(sorted(key.removeprefix(mine) for key in recall_all(_STORE) if key.startswith(mine)))


def learn(record: Record, candidate: Candidate, candidate_id: int, token_slope_bytes: float | None) -> None:
    """Remember what a candidate's server took, now that it was measured.

    Parameters
    ----------
    record : Record
        With the candidate's memory.
    candidate, candidate_id : Candidate, int
        Whose server the plan starts, and whose weights' header is read; of others nothing is learned.
    token_slope_bytes : float or None
        Measured growth of memory with each token of context; None: not measured, or not distinguishable from none.
    """
    peak = record.peak_bytes(candidate_id)
    if candidate.weights is None or not candidate.server.command or peak is None:
        return
    try:
        facts = read_facts(candidate.weights)
    except InputError:
        return
    if not facts.kv_heads:
        return
    shape, server = facts.shape(), candidate.server
    cache = kv_bytes(shape, server.context, kv_bits=server.kv_bits, parallel=server.concurrency)
    more = (token_slope_bytes or 0.0) - kv_bytes_per_token(shape, kv_bits=server.kv_bits)
    name = server_name(server.command)
    overhead = LearnedOverhead(
        server=name,
        overhead_bytes=max(0, peak - shape.weights_bytes - cache),
        context_tokens=server.context,
        per_token_bytes=max(0.0, more) if token_slope_bytes is not None else 0.0,
        learned_from=candidate.name,
        at=time.time(),
    )
    remember(_STORE, _key(name), msgspec.to_builtins(overhead))


def _key(name: str) -> str:
    return f"{own_fingerprint()}|{name}"
