"""The plan's tables as written; ``plan.py`` reads, checks and resolves them."""

from typing import Any, Literal

import msgspec

from kettlefield.core.units import Duration, Size


class _Table(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What all tables share: no key goes unread."""


class RigTable(_Table, frozen=True, kw_only=True):
    """``[rig]``: the machine that is qualified on."""

    accelerator: str = "none"  # "none", "simulated:FOLDER"
    memory_budget: Size | None = None  # what the candidates may take; none: not limited


class ServerTable(_Table, frozen=True, kw_only=True):
    """``[server]``: how each candidate's server is started and spoken to."""

    command: tuple[str, ...] = ()  # words with {weights} {port} {context} {level} {cache_bits} {slots} {python}
    url: str | None = None  # attach to a running server instead
    protocol: Literal["http"] = "http"
    port: int | None = None  # none: any free one
    context: int = 4096  # tokens
    ready_within: Duration = Duration(120)
    ready_paths: tuple[str, ...] = ("/health", "/v1/models")
    reply_within: Duration = Duration(300)
    served_model: str = "default"  # the model name put into requests
    cache_bits: Literal[16, 8, 4] = 16  # of a key or value element; for {cache_bits} in the command, and for sizing
    slots: int = 1  # requests that the server takes at once; for {slots}, and for sizing


class PromptingTable(_Table, frozen=True, kw_only=True):
    """``[prompting]``: what is said beside the exercise."""

    style: Literal["chat", "continuation", "infill"] = "chat"
    infill_markers: tuple[str, ...] = ()  # prefix, suffix, middle: how the model marks them
    guard: bool = True  # a short known exchange at the start tells a wrong prompt style
    system: str = ""
    environment_line: bool = True  # name the language's version, so that an old one is not blamed on the model


class SamplingTable(_Table, frozen=True, kw_only=True):
    """``[sampling]``: sent with every request."""

    temperature: float = 0.2
    top_p: float = 1.0
    top_k: int | None = None  # None: not sent, the server's own
    min_p: float | None = None
    repeat_penalty: float | None = None
    seed: int = 1  # of the first sample; the others count up from it
    max_tokens: int = 2048
    stop: tuple[str, ...] = ()


class SpeedTable(_Table, frozen=True, kw_only=True):
    """``[speed]``: timed requests, one at a time, with nothing else running."""

    requests: int = 30
    reply_tokens: int = 128
    warm_up: int = 2


class MemoryTable(_Table, frozen=True, kw_only=True):
    """``[memory]``: how memory is sampled."""

    sample_every: Duration = Duration(0.1)


class GradingTable(_Table, frozen=True, kw_only=True):
    """``[grading]``: how often and how wide the suite is asked."""

    samples: int = 1  # for each exercise, each with a seed of its own
    in_flight: int = 1  # exercises asked at once; latency figures come from [speed] alone
    repair_turns: int = 0  # after a failed attempt the error is sent back, so often at the most
    fault_retries: int = 1  # for a fault of server or rig, before it is recorded


class CriterionTable(_Table, frozen=True, kw_only=True):
    """``[[criterion]]``: what would make a candidate acceptable, set before the results are seen."""

    measure: str
    at_least: float | str | None = None
    at_most: float | str | None = None
    one_of: tuple[str, ...] = ()  # for the licence: SPDX identifiers
    confidence: float = 0.95  # one-sided: the bound that must clear the threshold


OVERRIDABLE: dict[str, type[msgspec.Struct]] = {
    "server": ServerTable,
    "prompting": PromptingTable,
    "sampling": SamplingTable,
    "speed": SpeedTable,
    "memory": MemoryTable,
    "grading": GradingTable,
}

# every key of the tables above may stand in a candidate, so no two tables may share a key
_override_fields = [
    (field.name, field.type | msgspec.UnsetType, msgspec.UNSET)
    for table in OVERRIDABLE.values()
    for field in msgspec.structs.fields(table)
]


class _CandidateBase(_Table, frozen=True, kw_only=True):
    model: str
    level: str
    weights: str = ""
    reference: bool = False
    settings: str | None = None  # name of a [settings.NAME] block that it shares with others


def _overriding(name: str, base: type[msgspec.Struct]) -> Any:
    """A table that may also hold any key of the overridable ones."""
    return msgspec.defstruct(
        name, _override_fields, bases=(base,), frozen=True, kw_only=True, forbid_unknown_fields=True, module=__name__
    )


SettingsTable: Any = _overriding("SettingsTable", _Table)
CandidateTable: Any = _overriding("CandidateTable", _CandidateBase)


class SuiteTable(_Table, frozen=True, kw_only=True):
    """``[[suite]]``: one of several suites, or of several seeds of one."""

    name: str
    seed: int = 0  # of the variants; 0: the exercises as written
    selection: Literal["all", "short"] = "all"
    weight: float = 1.0  # of its pass rate in the candidate's


class PlanFile(_Table, frozen=True, kw_only=True):
    """``plan.toml`` as written."""

    title: str
    suite: str | tuple[SuiteTable, ...]
    suite_seed: int = 0  # of the variants; 0: the exercises as written
    selection: Literal["all", "short"] = "all"  # "short": the suite's own selection for a quick look
    record: str
    candidate: tuple[CandidateTable, ...]
    criterion: tuple[CriterionTable, ...] = ()
    settings: dict[str, SettingsTable] = {}
    rig: RigTable = RigTable()
    server: ServerTable = ServerTable()
    prompting: PromptingTable = PromptingTable()
    sampling: SamplingTable = SamplingTable()
    speed: SpeedTable = SpeedTable()
    memory: MemoryTable = MemoryTable()
    grading: GradingTable = GradingTable()
