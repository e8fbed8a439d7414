"""The plan's tables as written; ``plan.py`` reads, checks and resolves them."""

from pathlib import Path
from typing import Any, Literal

import msgspec

from kettlefield.core.acceptance import Criterion
from kettlefield.core.errors import InputError
from kettlefield.core.units import Duration, Size
from kettlefield.marking.scale import MOST_WEIGHT, Weights
from kettlefield.measure.settings import FidelityTable, MemoryTable, SpeedTable
from kettlefield.suite.format import KINDS, Part, Selection
from kettlefield.suite.typed_toml import nearest


class RigTable(Part, frozen=True, kw_only=True):
    """``[rig]``: the machine that is qualified on."""

    accelerator: str = "auto"  # "auto", "none", "nvidia:0", "amd:0", "simulated:FOLDER"
    blocks: int = 1  # candidates take turns in this many blocks, so that a slow hour falls on all of them
    calibrated_within: Duration | None = None  # refuse to time anything without a calibration as recent as this
    disturbed_above: float = 0.3  # cores that other processes keep busy: beyond that a timed sample is marked
    memory_budget: Size | None = None  # what the candidates may take; none: not limited


class NamedRigTable(RigTable, frozen=True, kw_only=True):
    """``[[rig]]``: one of several machines; what it names of host, fingerprint and labels must all be so."""

    name: str
    host: str = ""  # its host name, or a pattern such as "quay-*"
    fingerprint: str = ""  # as `kettlefield rig` shows it
    labels: tuple[str, ...] = ()  # that a worker of a fleet must have
    weights: str = ""  # the folder on it that weights files are in; empty: relative to the plan
    cost_per_hour: float | None = None  # in a currency of yours, for the cost of a solved exercise


class CampaignTable(Part, frozen=True, kw_only=True):
    """``[campaign]``: how far the suite is asked."""

    # "all": everything is asked; "decided": a candidate stops as soon as its criteria are decided
    until: Literal["all", "decided"] = "all"
    looks: int = 8  # at the most, with "decided": the suite is asked in so many blocks, and looked at after each
    # "each": every rig is asked the suite; "once": rigs whose runtime is the same share the answers of one
    answers: Literal["each", "once"] = "each"
    budget: Duration | None = None  # with "decided": what one run may take; the most decisions for the time come first


class ServerTable(Part, frozen=True, kw_only=True):
    """``[server]``: how each candidate's server is started and spoken to."""

    command: tuple[str, ...] = ()  # with {weights} {port} {context} {level} {kv_bits} {concurrency} {python} {rig}
    url: str | None = None  # attach to a running server instead
    key_from: str | None = None  # the environment variable that holds its key; the key itself is never written down
    protocol: str = "http"  # "http", "stdio", or one that another package brings
    port: int | None = None  # none: any free one
    context: int = 4096  # tokens
    metrics_path: str = ""  # of its own counters in the Prometheus text format, such as "/metrics"; none: not asked for
    ready_within: Duration = Duration(120)
    ready_paths: tuple[str, ...] = ("/health", "/v1/models")
    reply_within: Duration = Duration(300)
    served_model: str = "default"  # the model name put into requests
    kv_bits: Literal[16, 8, 4] = 16  # of a key or value element; for {kv_bits} in the command, and for sizing
    concurrency: int = 1  # requests that the server takes at once; for {concurrency}, and for sizing


class PromptingTable(Part, frozen=True, kw_only=True):
    """``[prompting]``: what is said beside the exercise."""

    style: Literal["chat", "continuation", "infill"] = "chat"
    infill_markers: tuple[str, ...] = ()  # prefix, suffix, middle: how the model marks them
    preflight: bool = True  # a short known exchange at the start tells a wrong prompt style
    system: str = ""
    environment_line: bool = True  # name the language's version, so that an old one is not blamed on the model


class SamplingTable(Part, frozen=True, kw_only=True):
    """``[sampling]``: sent with every request."""

    temperature: float = 0.2
    top_p: float = 1.0
    top_k: int | None = None  # None: as `neutral` says
    min_p: float | None = None
    repeat_penalty: float | None = None
    neutral: bool = True  # what is not set is sent with a value that does nothing, as far as the server accepts it
    extra: dict[str, Any] = msgspec.field(default_factory=dict)  # further parameters under the server's own names
    seed: int = 1  # of the first sample; the others count up from it
    max_tokens: int = 2048
    stop: tuple[str, ...] = ()


class GradingTable(Part, frozen=True, kw_only=True):
    """``[grading]``: how often and how wide the suite is asked."""

    samples: int = 1  # for each exercise, each with a seed of its own
    concurrent_trials: int = 1  # exercises asked at once; latency figures come from [speed] alone
    repair_turns: int = 0  # after a failed attempt the error is sent back, at most this often
    fault_retries: int = 1  # for a fault of server or rig, before it is recorded
    context_fill: tuple[float, ...] = ()  # shares of the context at which the suite is asked again, project files first
    fill_from: tuple[str, ...] = ()  # patterns of your own files for that, relative to the plan; none: built-in ones
    fill_as: Literal["prompt", "turns"] = "prompt"  # before the task in its prompt, or as turns before it

    @property
    def fills(self) -> tuple[float | None, ...]:
        """The fills of the context that are asked, the exercise alone first: that is None."""
        return (None, *sorted({fill for fill in self.context_fill if fill > 0}))


class WorkspacesTable(Part, frozen=True, kw_only=True):
    """``[workspaces]``: how a model is given the tools of exercises that are set in a repository."""

    # "functions": by the API's own function calling; "blocks": described in the prompt, called in blocks of JSON;
    # "auto": the first where the preflight check sees that the server carries it out
    call_form: Literal["auto", "functions", "blocks"] = "auto"
    edit_tools: tuple[Literal["write_file", "replace_text", "apply_patch"], ...] = (
        *("write_file", "replace_text", "apply_patch"),
    )


class MarkingTable(Part, frozen=True, kw_only=True):
    """``[marking]``: what people's marks count for beside the checks."""

    weight: float = 0.0  # share of a reply's score that its mark makes up; 0: shown only


class JudgeTable(Part, frozen=True, kw_only=True):
    """``[judge]``: a second model that marks replies; shown, and used only as far as it agrees with people."""

    model: str
    level: str = "as served"
    weights: str = ""
    server: ServerTable
    prompting: PromptingTable = PromptingTable()
    sampling: SamplingTable = SamplingTable(max_tokens=600)
    kinds: tuple[str, ...] = ("explain", "page")  # of exercises whose replies it marks
    rounds: int = 2  # every question is asked this often, each time with another seed
    pairs: int = 40  # of replies to one exercise that are compared with each other, in both orders
    weight: float = 0.0  # share of a reply's score; 0: shown only
    agreement_at_least: float = 0.6  # kappa with people's marks; below it they are shown and not used


class CriterionTable(Part, frozen=True, kw_only=True):
    """``[[criterion]]``: what would make a candidate acceptable, set before the results are seen."""

    measure: str
    at_least: float | str | None = None
    at_most: float | str | None = None
    # paired with the reference level, or at a fill of the context with itself without one; only for pass_rate
    no_worse_than: Literal["reference", "empty context"] | None = None
    margin: float | None = None  # the drop that is accepted
    one_of: tuple[str, ...] = ()  # for the licence: SPDX identifiers
    among: dict[str, str | int] = msgspec.field(
        default_factory=dict
    )  # only exercises of this kind, language, difficulty, topic or suite
    at_depth: int | None = None  # tokens: a speed at one of the depths of [speed.depth]
    at_fill: float | None = None  # share of the context: what is counted is what was asked at that context_fill
    outcomes: tuple[str, ...] = ()  # for outcome_count: which
    confidence: float = 0.95  # one-sided: the bound that must clear the threshold


OVERRIDABLE: dict[str, type[msgspec.Struct]] = {
    "server": ServerTable,
    "prompting": PromptingTable,
    "sampling": SamplingTable,
    "speed": SpeedTable,
    "memory": MemoryTable,
    "fidelity": FidelityTable,
    "grading": GradingTable,
    "workspaces": WorkspacesTable,
}

# every key of the tables above may be in a candidate, so no two tables may share a key
_override_fields = [
    (field.name, field.type | msgspec.UnsetType, msgspec.UNSET)
    for table in OVERRIDABLE.values()
    for field in msgspec.structs.fields(table)
]


class _CandidateBase(Part, frozen=True, kw_only=True):
    model: str  # with weights it may be left out, as level may: the header says them
    level: str
    weights: str = ""  # a pattern such as "models/*.gguf" makes one candidate a file
    reference: bool = False
    baseline: bool = False  # another model to compare the candidates with; it is not up for approval
    settings: str | None = None  # name of a [settings.NAME] block that it shares with others
    on: tuple[str, ...] = ()  # names of [[rig]] tables that it runs on; empty: on every rig that it fits


def _overriding(name: str, base: type[msgspec.Struct]) -> Any:
    """A table that may also hold any key of the overridable ones."""
    return msgspec.defstruct(
        name, _override_fields, bases=(base,), frozen=True, kw_only=True, forbid_unknown_fields=True, module=__name__
    )


SettingsTable: Any = _overriding("SettingsTable", Part)
CandidateTable: Any = _overriding("CandidateTable", _CandidateBase)


class SuiteTable(Part, frozen=True, kw_only=True):
    """``[[suite]]``: one of several suites, or of several seeds of one."""

    name: str
    seed: int = 0  # of the variants; 0: the exercises as written
    selection: Selection = "all"
    weight: float = 1.0  # of its pass rate in the candidate's


class PlanFile(Part, frozen=True, kw_only=True):
    """``plan.toml`` as written."""

    title: str
    suite: str | tuple[SuiteTable, ...]
    suite_seed: int = 0  # of the variants; 0: the exercises as written
    selection: Selection = "all"  # "short" and "screen": the suite's own, for a first look
    record: str
    conditions: tuple[str, ...] = ()  # under which an approval holds, beside those that the measuring itself sets
    candidate: tuple[CandidateTable, ...]
    criterion: tuple[CriterionTable, ...] = ()
    settings: dict[str, SettingsTable] = msgspec.field(default_factory=dict)
    rig: RigTable | tuple[NamedRigTable, ...] = RigTable()
    campaign: CampaignTable = CampaignTable()
    server: ServerTable = ServerTable()
    prompting: PromptingTable = PromptingTable()
    sampling: SamplingTable = SamplingTable()
    speed: SpeedTable = SpeedTable()
    memory: MemoryTable = MemoryTable()
    fidelity: FidelityTable = FidelityTable()
    grading: GradingTable = GradingTable()
    workspaces: WorkspacesTable = WorkspacesTable()
    marking: MarkingTable = MarkingTable()
    judge: JudgeTable | None = None


MARKED = "marked_score"


class Judge(msgspec.Struct, frozen=True, kw_only=True):
    """The second model, as the plan has it."""

    name: str  # model@level
    table: JudgeTable
    weights: Path | None


def read_weights(written: PlanFile, where: str) -> Weights:
    """The weights of marks.

    Raises
    ------
    InputError
        They are out of range, or together more than the checks.
    """
    judge = written.judge
    weights = Weights(
        people=written.marking.weight,
        judge=judge.weight if judge is not None else 0.0,
        agreement_at_least=judge.agreement_at_least if judge is not None else 0.0,
    )
    for name, share in (("[marking] weight", weights.people), ("[judge] weight", weights.judge)):
        if not 0 <= share <= MOST_WEIGHT:
            raise InputError(f"is {share:g}", f"{where} {name}", f"Write a share from 0 to {MOST_WEIGHT:g}.")
    if weights.people + weights.judge > MOST_WEIGHT:
        hint = f"Together at most {MOST_WEIGHT:g}: the checks stay the greater part."
        raise InputError(f"marks weigh {weights.people + weights.judge:g} of a score", where, hint)
    if not 0 <= weights.agreement_at_least <= 1:
        raise InputError(f"is {weights.agreement_at_least:g}", f"{where} [judge] agreement_at_least", "Write 0 to 1.")
    return weights


def read_judge(written: PlanFile, path: Path) -> Judge | None:
    """The plan's judge, if it has one.

    Raises
    ------
    InputError
        It cannot be asked as the plan has it.
    """
    table, where = written.judge, f"{path} [judge]"
    if table is None:
        return None
    if not table.server.command and table.server.url is None:
        raise InputError("names no server", f"{where} server", "Write command or url.")
    for key, number in (("rounds", table.rounds), ("pairs", table.pairs)):
        if number < (1 if key == "rounds" else 0):
            raise InputError(f"is {number}", f"{where} {key}", "Write a larger number.")
    unknown = next((kind for kind in table.kinds if kind not in KINDS), None)
    if unknown is not None:
        raise InputError(f'there is no kind "{unknown}"', f"{where} kinds", nearest(unknown, list(KINDS)))
    weights = path.resolve().parent / table.weights if table.weights else None
    if weights is not None and not weights.exists():
        raise InputError("there is no such file", f"{where} weights", f"Looked for {weights}.")
    if any(entry.model == table.model for entry in written.candidate):
        raise InputError(
            f"{table.model} is a candidate too", where, "Nobody marks its own replies: name another model."
        )
    return Judge(name=f"{table.model}@{table.level}", table=table, weights=weights)


def check_evidence(criteria: tuple[Criterion, ...], where: str) -> None:
    """Refuse criteria that rest on marks alone.

    Raises
    ------
    InputError
        All that a plan asks of answers is that they are marked well.
    """
    names = {criterion.measure for criterion in criteria}
    if MARKED in names and "pass_rate" not in names:
        hint = "Add one on pass_rate: marks are never the only evidence for an approval."
        raise InputError(f"has a criterion on {MARKED} and none on what the checks find", f"{where} [criterion]", hint)
