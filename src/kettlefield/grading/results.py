"""What a check found, and the words for it: shared by all kinds of checks."""

from dataclasses import dataclass

from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import last_lines, shorten, visible
from kettlefield.grading.harness_frames import DETAIL_LIMIT
from kettlefield.sandbox.building import BuildFault
from kettlefield.sandbox.job import RunLimits, RunReport
from kettlefield.suite.format import Check, Limits


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckResult:
    """What one check found."""

    name: str
    kind: str
    required: bool
    weight: float
    passed: bool
    end: RunEnd
    cases_passed: int
    cases_total: int
    detail: str  # the first fault in words, for the reader; empty when passed
    feedback: str  # the same without expected values, for a repair turn
    wall_s: float  # running the answer, all cases

    @property
    def credit(self) -> float:
        """Share of the weight that is earned; only a text, which is partial by design, earns a part."""
        if self.kind == "text" and self.cases_total:
            return self.cases_passed / self.cases_total
        return float(self.passed)


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """What a run says of all cases: how it ended, how many agreed, the first fault."""

    end: RunEnd
    agreed: int
    detail: str = ""
    feedback: str = ""


def kind_of(check: Check) -> str:
    """A check's kind as exercises write it."""
    return str(check.__struct_config__.tag)


def make_result(check: Check, finding: Finding, total: int, wall_s: float) -> CheckResult:
    """A finding as the result of its check; it passes when the run finished and every case agreed."""
    return CheckResult(
        name=check.name,
        kind=kind_of(check),
        required=check.required,
        weight=check.weight,
        passed=finding.end is RunEnd.FINISHED and finding.agreed == total,
        end=finding.end,
        cases_passed=finding.agreed,
        cases_total=total,
        detail=finding.detail,
        feedback=finding.feedback,
        wall_s=wall_s,
    )


def unbuilt(check: Check, fault: BuildFault, total: int) -> CheckResult:
    """A check that could not be carried out because the answer does not build."""
    finding = Finding(end=fault.end, agreed=0, detail=fault.words, feedback=fault.words)
    return make_result(check, finding, total, fault.wall_s)


def to_limits(limits: Limits) -> RunLimits:
    """An exercise's limits in base units."""
    return RunLimits(wall_s=limits.wall, cpu_s=limits.cpu, memory_bytes=limits.memory, output_bytes=limits.output)


def stopped(report: RunReport) -> tuple[RunEnd, str] | None:
    """How the run was stopped from outside, if it was."""
    if report.rig_fault is not None:
        return RunEnd.RIG_FAULT, report.rig_fault
    if report.timed_out:
        return RunEnd.TIMED_OUT, f"still running after {report.wall_s:.1f} s"
    if report.over_limit is not None:
        return RunEnd.OVER_LIMIT, report.over_limit
    return None


def tail_of(report: RunReport) -> str:
    """The last that a run said on standard error, or its exit status."""
    tail = visible(last_lines(report.stderr.decode("utf-8", errors="replace"), 3))
    return shorten(tail, DETAIL_LIMIT) if tail else f"exit status {report.exit_status}, nothing on standard error"
