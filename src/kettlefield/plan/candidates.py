"""A candidate: one model at one level with everything that it is asked under, and what is refused of it."""

import json
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.measure.settings import FidelityTable, MemoryTable, SpeedTable
from kettlefield.plan import tables

_OWN_KEYS = {field.name for field in msgspec.structs.fields(tables.SamplingTable)}
_NOT_EXTRA = _OWN_KEYS | {"messages", "prompt", "model", "stream", "stream_options", "n"}


class Candidate(msgspec.Struct, frozen=True, kw_only=True):
    """One model at one level with everything that it is asked under."""

    model: str
    level: str
    weights: Path | None
    reference: bool
    baseline: bool
    settings_name: str | None
    variant: str = ""  # of settings that vary; empty: none does
    server: tables.ServerTable
    prompting: tables.PromptingTable
    sampling: tables.SamplingTable
    speed: SpeedTable
    memory: MemoryTable
    grading: tables.GradingTable
    fidelity: FidelityTable = msgspec.field(default_factory=FidelityTable)
    workspaces: tables.WorkspacesTable = msgspec.field(default_factory=tables.WorkspacesTable)
    rig: str = ""  # of a plan for several rigs: on which it runs

    @property
    def name(self) -> str:
        """``model@level``, with its settings block, the settings that vary and the rig, where it has them."""
        plain = "+".join(filter(None, (f"{self.model}@{self.level}", self.settings_name, self.variant)))
        return f"{plain} on {self.rig}" if self.rig else plain

    @property
    def family(self) -> str:
        """What its levels are compared within: the model, on one rig."""
        return f"{self.model} on {self.rig}" if self.rig else self.model

    def settings(self) -> dict[str, Any]:
        """Every setting as plain data, for the record."""
        settings = {
            name: msgspec.to_builtins(getattr(self, name), enc_hook=_plain_number) for name in tables.OVERRIDABLE
        }
        if self.workspaces == tables.WorkspacesTable():
            del settings["workspaces"]  # records of before there were any are resumed
        return settings


def check_candidate(where: str, candidate: Candidate) -> None:
    """Refuse a candidate whose settings cannot be carried out.

    Raises
    ------
    InputError
        With the key, and ``where`` it stands.
    """
    for name, value in (("model", candidate.model), ("level", candidate.level)):
        if not value or "@" in value or not value.isprintable() or " " in value:
            raise InputError(f'{name} is "{value}"', where, "Use a name without spaces and without @.")
    if candidate.baseline and candidate.reference:
        hint = "A baseline stands beside the candidates; a reference level is one of them."
        raise InputError("is both baseline and reference", where, hint)
    _check_server(where, candidate)
    for key, number, least in _bounds(candidate):
        if number < least:
            raise InputError(f"{key} is {number}", where, f"Write {least} or more.")
    _check_prompting(where, candidate)
    _check_fills(where, candidate)
    if not 0 < candidate.sampling.top_p <= 1:
        raise InputError(f"top_p is {candidate.sampling.top_p}", where, "Write a number above 0, at most 1.")
    for name, value in candidate.sampling.extra.items():
        if name in _NOT_EXTRA:
            hint = "Set it by its own key." if name in _OWN_KEYS else "Leave it out: Kettlefield sets it."
            raise InputError(f'extra holds "{name}"', f"{where} [sampling]", hint)
        if not is_json(value):
            raise InputError(f"extra {name} is {value!r}", f"{where} [sampling]", "Write text, numbers, true or false.")
    if not 0 <= candidate.speed.precision < 1:
        raise InputError(f"precision is {candidate.speed.precision}", where, "Write a fraction such as 0.05.")


def _check_server(where: str, candidate: Candidate) -> None:
    server = candidate.server
    if bool(server.command) == (server.url is not None):
        raise InputError(
            "has both a server command and a url" if server.command else "has neither a server command nor a url",
            where,
            "Set [server] command to start a server, or url to attach to a running one.",
        )
    if server.key_from is not None and server.url is None:
        raise InputError("has a key_from without a url", where, "A key is for a server that is attached to by url.")
    if server.command and any("{weights}" in word for word in server.command) and candidate.weights is None:
        raise InputError("weights is missing", where, "The server command needs {weights}: name the file.")
    if candidate.weights is not None and not candidate.rig and not candidate.weights.exists():
        raise InputError(
            f"there is no weights file {candidate.weights}",
            where,
            "Check the path; it is relative to the plan.",
        )
    if server.metrics_path and (not server.metrics_path.startswith("/") or server.protocol != "http"):
        hint = 'Write a path such as "/metrics", for a server that speaks HTTP.'
        raise InputError(f'metrics_path is "{server.metrics_path}"', where, hint)
    if server.port is not None and not 0 < server.port < 65536:
        raise InputError(f"port is {server.port}", where, "Write 1 to 65535, or leave it out.")


def _bounds(candidate: Candidate) -> tuple[tuple[str, float, float], ...]:
    """Name, value and least value of everything that is counted."""
    server = candidate.server
    return (
        ("context", server.context, 1),
        ("max_tokens", candidate.sampling.max_tokens, 1),
        *_speed_bounds(candidate.speed),
        ("leak_requests", candidate.memory.leak_requests, 0),
        ("sample_every", candidate.memory.sample_every, 0.005),
        ("samples", candidate.grading.samples, 1),
        ("concurrent_trials", candidate.grading.concurrent_trials, 1),
        ("fault_retries", candidate.grading.fault_retries, 0),
        ("repair_turns", candidate.grading.repair_turns, 0),
        ("texts", candidate.fidelity.texts, 0),
        ("top_tokens", candidate.fidelity.top_tokens, 1),
        ("most_chars", candidate.fidelity.most_chars, 100),
        ("temperature", candidate.sampling.temperature, 0),
        ("concurrency", server.concurrency, 1),
    )


def _check_prompting(where: str, candidate: Candidate) -> None:
    if candidate.grading.repair_turns and candidate.prompting.style != "chat":
        raise InputError(
            f"repair_turns is {candidate.grading.repair_turns} with style {candidate.prompting.style}",
            where,
            'Repair needs a conversation: use style = "chat", or repair_turns = 0.',
        )
    if not candidate.workspaces.edit_tools:
        raise InputError("edit_tools is empty", where, 'Name at least one, such as "write_file".')
    markers = candidate.prompting.infill_markers
    if candidate.prompting.style == "infill" and len(markers) != 3:
        raise InputError(
            f"infill_markers has {len(markers)} entries", where, "Write three: the marks for prefix, suffix and middle."
        )


def _check_fills(where: str, candidate: Candidate) -> None:
    grading, context, reply = candidate.grading, candidate.server.context, candidate.sampling.max_tokens
    for fill in grading.context_fill:
        if not 0 <= fill < 1:
            raise InputError(f"context_fill holds {fill:g}", where, "Write shares of the context, from 0 to below 1.")
        if fill and fill * context + reply > context:
            left = context - round(fill * context)
            raise InputError(
                f"context_fill {fill:g} leaves {left:,} of {context:,} tokens for a reply, max_tokens is {reply:,}",
                where,
                "Lower context_fill or max_tokens, or raise context.",
            )
    if any(grading.context_fill) and candidate.prompting.style == "infill":
        raise InputError("context_fill with style infill", where, 'Files stand before a task: use style = "chat".')
    if grading.fill_as == "turns" and candidate.prompting.style != "chat":
        raise InputError('fill_as is "turns" without a chat', where, 'Use style = "chat", or fill_as = "prompt".')


def _speed_bounds(speed: SpeedTable) -> tuple[tuple[str, float, float], ...]:
    """Name, value and least value of everything that ``[speed]`` counts."""
    return (
        ("requests", speed.requests, 0),
        *(("prompt_tokens", length, 1) for length in speed.prompt_tokens),
        *(("reply_tokens", length, 2) for length in speed.reply_lengths),
        ("warm_up", speed.warm_up, 0),
        ("prompt_cache", speed.prompt_cache, 0),
        *(("depth.tokens", depth, 1) for depth in speed.depth.tokens),
        ("depth.repeats", speed.depth.repeats, 1),
        ("depth.system_tokens", speed.depth.system_tokens, 0),
        *(("closed_loop.concurrency", count, 1) for count in speed.closed_loop.concurrency),
        ("closed_loop.requests", speed.closed_loop.requests, 1),
        ("open_loop.ttft", 1 if speed.open_loop.ttft is None else speed.open_loop.ttft, 0.001),
        ("open_loop.lasting", speed.open_loop.lasting, 0.1),
        ("open_loop.tries", speed.open_loop.tries, 1),
        ("open_loop.requests_per_engineer_hour", speed.open_loop.requests_per_engineer_hour or 1.0, 0.001),
    )


def check_candidates(path: Path, candidates: tuple[Candidate, ...]) -> None:
    """Refuse candidates that cannot stand beside each other.

    Raises
    ------
    InputError
        There is none, one twice, or two reference levels of a model.
    """
    if not candidates:
        raise InputError("there is no candidate", f"{path} [candidate]", "Add at least one [[candidate]].")
    names = [candidate.name for candidate in candidates]
    double = next((name for name in names if names.count(name) > 1), None)
    if double is not None:
        raise InputError(f"{double} appears twice", f"{path} [candidate]", "Each candidate once.")
    references = [candidate.family for candidate in candidates if candidate.reference]
    double = next((model for model in references if references.count(model) > 1), None)
    if double is not None:
        raise InputError(f"{double} has two reference levels", f"{path} [candidate]", "Mark one as reference.")


def is_json(value: Any) -> bool:
    """Whether a TOML value can go over the wire: dates cannot, nor numbers without an end."""
    try:
        json.dumps(value, allow_nan=False)
    except (TypeError, ValueError):
        return False
    return True


def _plain_number(value: Any) -> Any:
    """A size or a duration as a bare number of bytes or seconds."""
    return int(value) if isinstance(value, int) else float(value)
