"""Checks of cost: how time and memory grow with size, and time beside the exercise's own answer.

Processor time and memory are taken from the kernel after each run, so nothing that an answer does to its
clock counts. What a start costs is measured too and taken off. Every run's result must agree with that of
the own answer: doing nothing is fast.
"""

import json
import secrets
from collections.abc import Iterable

import msgspec

from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.core.statistics.trends import Ruling, Slope, fit_exponent, ratio_of_pairs
from kettlefield.core.values import values_agree
from kettlefield.grading.builds import Built
from kettlefield.grading.checks.check_program import run_tool
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.checks.programs import ProgramCase, run_case
from kettlefield.grading.results import (
    DETAIL_LIMIT,
    Finding,
    Frame,
    frames_of,
    make_result,
    plain_value,
    start_fault,
    stopped,
    tail_of,
    to_limits,
)
from kettlefield.sandbox.job import RunReport
from kettlefield.suite.format import Check

ROUNDS = (2, 4, 8)  # runs of each size; more where the interval still holds the limit
START_RUNS = 3  # of the smallest input, for what a start costs
SEED = 1
MIN_SIZES = 4  # fewer leave no degrees of freedom for an interval
MEMORY_FLOOR_BYTES = 2**20  # less growth than this cannot be distinguished from what one start differs from the next


class GrowthCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="growth"):
    """How cost grows with size: the exponent's interval must lie below what is allowed."""

    function: str | None = None  # none: the whole program
    inputs: str  # Python file beside exercise.toml: called with SIZE and SEED it prints the input
    sizes: tuple[int, ...]
    time_below: float  # exponent of processor time
    memory_below: float | None = None  # exponent of peak memory


class BudgetCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="budget"):
    """Time against the exercise's own answer, measured side by side on this rig."""

    function: str | None = None
    inputs: str
    size: int
    at_most: float  # times the own answer's processor time


class _RunError(Exception):
    """A run did not end as it should."""

    def __init__(self, end: RunEnd, words: str) -> None:
        super().__init__(end, words)
        self.end, self.words = end, words


class _Cost(msgspec.Struct, frozen=True, kw_only=True):
    """What one run took, and what it gave."""

    cpu_s: float
    peak_bytes: int
    gave: object


class _Course:
    """Runs the answer and the own answer on inputs of any size."""

    def __init__(self, bench: Bench, check: GrowthCheck | BudgetCheck) -> None:
        self._bench, self._check, self._own = bench, check, bench.own(check)
        # such inputs and outputs are large by design
        self._limits = msgspec.structs.replace(to_limits(bench.exercise.spec.limits), output_bytes=32 * 2**20)
        self._key = ("cost input", bench.exercise.id, check, bench.exercise.scripts[check.inputs])
        self.wall_s = 0.0

    def own(self, size: int) -> _Cost:
        try:
            return self._run(self._own, size)
        except _RunError as err:
            raise _RunError(RunEnd.RIG_FAULT, f"the exercise's own answer failed at size {size}: {err.words}") from err

    def run(self, size: int) -> _Cost:
        """One run of the answer, its result compared with the own answer's."""
        # what every answer is measured with is made once, not once an answer
        wanted = self._bench.kept.once((*self._key, size, "own"), lambda: self.own(size), keep=lambda _: True)
        cost = self._run(self._bench.built, size)
        if not values_agree(cost.gave, wanted.gave):
            raise _RunError(RunEnd.FINISHED, f"the result for an input of size {size} is wrong")
        return cost

    def _input(self, size: int) -> str:
        return self._bench.kept.once((*self._key, size), lambda: self._make_input(size), keep=lambda _: True)

    def _make_input(self, size: int) -> str:
        report = run_tool(self._bench, self._check.inputs, (str(size), str(SEED)))
        stop = stopped(report)
        if stop is not None or report.exit_status != 0:
            words = stop[1] if stop is not None else tail_of(report)
            raise _RunError(RunEnd.RIG_FAULT, f"{self._check.inputs} failed at size {size}: {words}")
        return report.stdout.decode("utf-8")

    def _run(self, built: Built, size: int) -> _Cost:
        text = self._input(size)
        gave: object
        if self._check.function is None:
            run = run_case(ProgramCase(stdin=text), built, self._limits, self._bench.sandbox, ())
            report, gave = run.report, run.stdout
            if run.fault or report.exit_status != 0:
                raise _RunError(
                    run.end if run.fault else RunEnd.CRASHED, f"size {size}: {run.fault or tail_of(report)}"
                )
        else:
            report, gave = self._call(built, text, size)
        self.wall_s += report.wall_s
        return _Cost(cpu_s=report.cpu_s, peak_bytes=report.peak_bytes, gave=gave)

    def _call(self, built: Built, text: str, size: int) -> tuple[RunReport, object]:
        nonce = secrets.token_hex(16)
        order = {
            "nonce": nonce,
            "file": built.main,
            "function": self._check.function,
            "object": False,
            "cases": [{"args": json.loads(text), "steps": []}],
        }
        report = self._bench.run(built.calls_job(order, self._limits))
        frames = frames_of(report.results, nonce)
        fault = start_fault(frames) or stopped(report)
        frame = next((frame for frame in frames if frame.case is not None), Frame())
        if fault is None and frame.error is not None:
            fault = frame.error.end, frame.error.words
        if fault is None and frame.value is msgspec.UNSET:
            fault = RunEnd.CRASHED, f"ended in mid-run: {tail_of(report)}"
        if fault is not None:
            raise _RunError(fault[0], f"size {size}: {fault[1]}")
        return report, plain_value(frame.value)


def _run_growth(bench: Bench, check: GrowthCheck) -> CheckResult:
    """Fit the exponents of time and memory; what stays undecided after many rounds is a fault of the rig."""
    course = _Course(bench, check)
    wanted = {"time": check.time_below, **({"memory": check.memory_below} if check.memory_below is not None else {})}
    costs: list[tuple[int, _Cost]] = []
    try:
        start = [course.run(1) for _ in range(START_RUNS)]
        base_s = min(cost.cpu_s for cost in start)
        base_bytes = min(cost.peak_bytes for cost in start)
        for rounds in ROUNDS:
            while len(costs) < rounds * len(check.sizes):
                costs += [(size, course.run(size)) for size in check.sizes]
            sizes = [size for size, _ in costs]
            slopes = {"time": fit_exponent(sizes, [cost.cpu_s - base_s for _, cost in costs])}
            if "memory" in wanted:
                grown = [max(MEMORY_FLOOR_BYTES, cost.peak_bytes - base_bytes) for _, cost in costs]
                slopes["memory"] = fit_exponent(sizes, grown)
            rulings = {name: slopes[name].rule(limit) for name, limit in wanted.items()}
            if Ruling.BEYOND in rulings.values() or set(rulings.values()) == {Ruling.WITHIN}:
                break
    except _RunError as err:
        return _failed(check, err, course.wall_s)
    words = {name: f"{name} grows as size to the power {_words(slopes[name])}" for name in wanted}
    return _ruled(
        check, rulings, words, {name: f"allowed is below {limit:g}" for name, limit in wanted.items()}, course
    )


def _run_budget(bench: Bench, check: BudgetCheck) -> CheckResult:
    """Run the answer and the own answer in turn, and compare their processor time less what a start costs."""
    course = _Course(bench, check)
    pairs: list[tuple[float, float]] = []
    try:
        base_s = min(course.run(1).cpu_s for _ in range(START_RUNS))
        own_base_s = min(course.own(1).cpu_s for _ in range(START_RUNS))
        for rounds in ROUNDS:
            while len(pairs) < rounds + 1:
                ours = course.own(check.size).cpu_s - own_base_s
                pairs.append((course.run(check.size).cpu_s - base_s, ours))
            ratio = ratio_of_pairs([pair[0] for pair in pairs], [pair[1] for pair in pairs])
            ruling = ratio.rule(check.at_most)
            if ruling is not Ruling.UNDECIDED:
                break
    except _RunError as err:
        return _failed(check, err, course.wall_s)
    words = {"time": f"it takes {_words(ratio)} times as long as the exercise's own answer"}
    return _ruled(check, {"time": ruling}, words, {"time": f"allowed is below {check.at_most:g}"}, course)


def _words(slope: Slope) -> str:
    return f"{slope.value:.2f} [{slope.low:.2f}, {slope.high:.2f}]"


def _ruled(
    check: GrowthCheck | BudgetCheck,
    rulings: dict[str, Ruling],
    words: dict[str, str],
    allowed: dict[str, str],
    course: _Course,
) -> CheckResult:
    faults = [f"{words[name]}, {allowed[name]}" for name, ruling in rulings.items() if ruling is not Ruling.WITHIN]
    undecided = Ruling.BEYOND not in rulings.values() and Ruling.UNDECIDED in rulings.values()
    said = "; ".join(faults)
    finding = Finding(
        end=RunEnd.RIG_FAULT if undecided else RunEnd.FINISHED,
        agreed=len(rulings) - len(faults),
        detail=f"undecided after {ROUNDS[-1]} rounds: {said}" if undecided else said,
        feedback="" if undecided else "the result is right, but it costs too much on large inputs" if faults else "",
    )
    return make_result(check, finding, len(rulings), course.wall_s)


def _failed(check: GrowthCheck | BudgetCheck, err: _RunError, wall_s: float) -> CheckResult:
    said = shorten(err.words, DETAIL_LIMIT)
    return make_result(check, Finding(end=err.end, agreed=0, detail=said, feedback=said), 1, wall_s)


def _growth_faults(check: GrowthCheck) -> Iterable[tuple[str, str]]:
    if len(set(check.sizes)) < MIN_SIZES or min(check.sizes, default=0) < 1:
        yield f"has the sizes {list(check.sizes)}", f"Write at least {MIN_SIZES} sizes above 0."


GROWTH = CheckKind(
    spec=GrowthCheck,
    scripts=lambda check: (check.inputs,),
    calls=lambda check: check.function is not None,
    faults=_growth_faults,
    only_right=True,
    run=_run_growth,
)
BUDGET = CheckKind(
    spec=BudgetCheck,
    scripts=lambda check: (check.inputs,),
    calls=lambda check: check.function is not None,
    only_right=True,
    run=_run_budget,
)
