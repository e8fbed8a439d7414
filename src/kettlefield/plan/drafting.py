"""A plan drafted from weights files: candidates, context and style from their headers; criteria left to a person."""

import re
from collections.abc import Sequence

import msgspec
import tomli_w

from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import LearnedOverhead, largest_context, memory_need
from kettlefield.core.units import format_bytes, format_count
from kettlefield.plan.criteria import NOT_SET
from kettlefield.weights.facts import ModelFacts

CONTEXTS = (16384, 8192, 4096, 2048)  # tried in this order: long enough for the suite with room for thinking
DEFAULT_COMMAND = ("your-server", "--model", "{weights}", "--port", "{port}", "--context", "{context}")


class Serving(msgspec.Struct, frozen=True, kw_only=True):
    """How a drafted plan's server is reached: started by a command, or attached to."""

    command: tuple[str, ...] = ()  # words; none: a placeholder for the reader to replace
    url: str | None = None
    served_model: str | None = None  # the name that an attached server has for the model
    key_from: str | None = None  # the environment variable that holds its key


class Draft(msgspec.Struct, frozen=True, kw_only=True):
    """A drafted plan."""

    text: str
    left_out: tuple[str, ...]  # files that cannot fit, with the reason
    context_tokens: int = 0  # of every candidate


def draft_plan(
    models: Sequence[ModelFacts],
    *,
    names: Sequence[str],
    serving: Serving,
    suite: str,
    budget_bytes: int,
    budget_source: str,
    accelerator: str,
    overhead_bytes: int | None = None,
    learned: LearnedOverhead | None = None,
    look_s: float | None = None,
) -> Draft:
    """Write a commented plan.

    Parameters
    ----------
    models : sequence of ModelFacts
        What the files are.
    names : sequence of str
        The files as the plan is to name them, one for each model.
    serving : Serving
        How its server is reached.
    suite : str
        The suite's name.
    budget_bytes : int
        What a candidate may take; files that need more at the shortest context are left out.
    budget_source : str
        Where the budget comes from, for the comment.
    accelerator : str
        As ``[rig] accelerator`` writes it.
    overhead_bytes : int, optional
        What the server takes beside weights and cache; by default what was learned of it, or a rule of thumb.
    learned : LearnedOverhead, optional
        From earlier campaigns with this command's server on this rig.
    look_s : float, optional
        The plan of a first look that takes at most so many seconds a candidate, without criteria; none: of a campaign.

    Raises
    ------
    InputError
        Nothing fits.
    """
    own = overhead_bytes if overhead_bytes is not None or learned is None else learned.at_context(CONTEXTS[0])
    fitting, left_out = [], []
    for facts, name in zip(models, names, strict=True):
        need = memory_need(facts.shape(), CONTEXTS[-1], overhead_bytes=own)
        if facts.kv_heads and need.total_bytes > budget_bytes:
            left_out.append(
                f"{_comment(name)}: needs {format_bytes(need.total_bytes)} at {CONTEXTS[-1]:,} tokens, "
                f"budget {format_bytes(budget_bytes)}"
            )
        else:
            fitting.append((facts, name))
    if not fitting:
        raise InputError(
            "none of the files fits", "; ".join(left_out), "Raise --budget, name smaller levels, or state --overhead."
        )
    context = _context([facts for facts, _ in fitting], budget_bytes, own)
    reply_tokens = min(MOST_REPLY_TOKENS, context // 2)
    measuring = _SAMPLING + (_CAMPAIGN if look_s is None else _look(context, look_s))
    parts = [
        _head(suite, accelerator, budget_bytes, budget_source) if look_s is None else _look_head(suite, accelerator),
        _server(serving, context),
        _memory(overhead_bytes, learned),
        measuring.replace("MOST_REPLY", str(reply_tokens)),
        "\n# --- candidates: one model at one level each\n",
    ]
    references = _references([facts for facts, _ in fitting])
    parts += [_candidate(facts, name, facts in references) for facts, name in fitting]
    parts += [f"\n# left out: {line}\n" for line in left_out]
    if look_s is None:
        parts.append(_CRITERIA.replace("NOT SET", NOT_SET))
    return Draft(text="".join(parts), left_out=tuple(left_out), context_tokens=context)


def model_name(facts: ModelFacts) -> str:
    """A model's name as a plan writes it: small letters, digits, dots and hyphens; the level left out."""
    name = re.sub(r"[^a-z0-9.]+", "-", facts.model.lower().replace("(simulated)", "")).strip("-.")
    for ending in (facts.level.lower(), facts.level.lower().replace("_", "-")):
        name = name.removesuffix(ending).strip("-.")
    return name or "model"


def _context(models: Sequence[ModelFacts], budget_bytes: int, overhead_bytes: int | None) -> int:
    """The longest of our lengths that every candidate has and can afford; of a smaller window all of it."""
    limits = []
    for facts in models:
        if facts.kv_heads and facts.context_tokens:
            longest = largest_context(
                facts.shape(), budget_bytes, most_tokens=facts.context_tokens, overhead_bytes=overhead_bytes
            )
            limits.append(longest or CONTEXTS[-1])
    shared = min(limits, default=CONTEXTS[1])
    return next((context for context in CONTEXTS if context <= shared), shared)


def _references(models: Sequence[ModelFacts]) -> list[ModelFacts]:
    """Of each model the file with the most bits a weight."""
    best: dict[str, ModelFacts] = {}
    for facts in models:
        name = model_name(facts)
        if name not in best or facts.bits_per_weight > best[name].bits_per_weight:
            best[name] = facts
    return list(best.values())


def _toml(**values: object) -> str:
    """Assignments in TOML, whatever text the values hold."""
    return tomli_w.dumps(values)


def _comment(text: str) -> str:
    return "".join(ch if ch.isprintable() else "?" for ch in text)


def _head(suite: str, accelerator: str, budget_bytes: int, source: str) -> str:
    return (
        "# Drafted from weights files. Read it, set the criteria at its end, then: kettlefield qualify plan.toml\n"
        + _toml(title="What this campaign is to find out", suite=suite, record="record.db")
        + f"\n[rig]\n{_toml(accelerator=accelerator)}"
        + f'memory_budget = "{budget_bytes // 2**20} MiB"  # {_comment(source)}\n'
        + '\n# [campaign]\n# until = "decided"  # stop each candidate as soon as its criteria are decided\n'
    )


def _memory(overhead_bytes: int | None, learned: LearnedOverhead | None) -> str:
    if overhead_bytes is None and learned is not None:
        size = format_bytes(learned.overhead_bytes)
        return (
            f"\n# beside weights and KV cache this server took {size}, learned from {_comment(learned.learned_from)}\n"
        )
    if overhead_bytes is None:
        return ""
    return f'\n[memory]\noverhead = "{overhead_bytes} B"  # what the server takes beside weights and cache\n'


def _look_head(suite: str, accelerator: str) -> str:
    return (
        "# The plan of a first look: no criteria, nothing is decided.\n"
        + _toml(title="A first look", suite=suite, selection="short", record=LOOK_RECORD)
        + f"\n[rig]\n{_toml(accelerator=accelerator)}"
    )


def _server(serving: Serving, context: int) -> str:
    note, how = "", _toml(command=list(serving.command or DEFAULT_COMMAND))
    if serving.url is not None:
        known = {"served_model": serving.served_model, "key_from": serving.key_from}
        how = _toml(url=serving.url, **{name: value for name, value in known.items() if value is not None})
    elif not serving.command:
        note = "# replace this by the command that starts your server\n"
    return (
        f"\n[server]\n{note}{how}"
        f"# tokens: the longest of {', '.join(map(str, CONTEXTS))} that all candidates have and can afford\n"
        f"context = {context}\n"
        "kv_bits = 16  # of a key or value element; {kv_bits} puts it into the command\n"
        "concurrency = 1  # requests that the server takes at once; {concurrency} puts it into the command\n"
    )


MOST_REPLY_TOKENS = 2048  # and at most half of the context, so that the prompt has room
LOOK_RECORD = "look.db"
LOOK_PROMPTS = (4096, 8)  # the longer of two prompts, and how many times as long as the shorter it is
LOOK_SPEED_SHARE = 0.4  # of a first look's time for timing; the rest is for loading and for the suite


def _look(context: int, look_s: float) -> str:
    most, times = LOOK_PROMPTS
    longer = min(most, context // 2)
    return (
        "\n[speed]\nrequests = 5\n"
        f"prompt_tokens = [{max(16, longer // times)}, {longer}]\nreply_tokens = {min(64, context // 8)}\n"
        f'budget = "{max(0.1, look_s * LOOK_SPEED_SHARE):.1f} s"\n'
        "\n[grading]\nsamples = 1\n"
    )


_SAMPLING = """
[sampling]
# low temperature and a fixed seed: levels are to differ, not dice
temperature = 0.2
top_p = 1.0
seed = 1
max_tokens = MOST_REPLY
# top_k, min_p and the penalties are sent with values that do nothing, as far as the server accepts them; what it
# refuses stays at its own default and is named in the record. Others by the server's own names:
# extra = { typical_p = 1.0 }
"""

_CAMPAIGN = """
[speed]
requests = 60  # enough to bound p95 at one-sided 95 %
reply_tokens = 128
cold_load = true  # the load from the disk, beside the one from memory
# prompt_cache = 10                           # prompts asked twice: what the server's prompt cache saves
# [speed.depth]
# tokens = [1024, 4096, 16384]                # first token and decode rate as the context fills
# [speed.closed_loop]
# concurrency = [1, 2, 4, 8]                       # several clients at once, and the saturation
# [speed.open_loop]
# ttft = "2 s"                         # capacity: the rate at which p95 stays below this

[grading]
samples = 2  # seeds an exercise is asked with
concurrent_trials = 1
"""

_CRITERIA = """
# --- criteria: set by a person before any result is seen; qualify refuses to run until they are
[[criterion]]
measure = "pass_rate"
at_least = "NOT SET"  # a share from 0 to 1; the lower bound must reach it

# [[criterion]]                       # and on the same exercises no worse than the reference level
# measure = "pass_rate"
# no_worse_than = "reference"
# margin = 0.05                       # the drop that is accepted

[[criterion]]
measure = "ttft_s.p95"
at_most = "NOT SET"  # such as "800 ms"

[[criterion]]
measure = "decode_tps.p10"
at_least = "NOT SET"  # such as "20 tokens/s"

[[criterion]]
measure = "peak_bytes"
at_most = "NOT SET"  # such as "12 GiB"
"""


def _candidate(facts: ModelFacts, name: str, is_reference: bool) -> str:
    lines = ["\n[[candidate]]\n", _toml(model=model_name(facts), level=_comment(facts.level), weights=name)]
    if is_reference:
        lines.append("reference = true  # most bits a weight: the others of its model are compared with it\n")
    if facts.style == "infill":
        marks = [facts.infill_markers[role] for role in ("prefix", "suffix", "middle")]
        lines.append(_toml(style="infill", infill_markers=marks))
    elif facts.style == "continuation":
        lines.append('style = "continuation"  # the header holds no chat template and no infill markers\n')
    licence = facts.licence.spdx or facts.licence.written or "none given"
    lines.append(
        f"# {format_count(facts.parameters)} parameters, {facts.bits_per_weight:.2f} bits each, "
        f"licence: {_comment(licence)}, {facts.context_tokens or 'unknown'} tokens of context\n"
    )
    return "".join(lines)
