"""Checks of a review: the faults of a change, named by file, line and kind; a false alarm counts against it."""

import json
from collections.abc import Iterable
from typing import Any

import msgspec

from kettlefield.core.extraction.extract import answer_text
from kettlefield.core.extraction.fences import find_blocks
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten, visible
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.results import Finding, make_result
from kettlefield.suite.format import Check, Exercise, Part

MOST_FINDINGS = 100  # more is no review
_SHOWN = 60  # characters of a name in a message


class Fault(Part, frozen=True, kw_only=True):
    """A fault that the change holds."""

    file: str
    lines: tuple[int, int]  # first and last of the new file at which it may be named
    kinds: tuple[str, ...]  # any of which names it


class FindingsCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="findings"):
    """The reply's JSON list of findings, each with ``file``, ``line`` and ``kind``; empty where nothing is wrong."""

    kinds: tuple[str, ...]  # that the prompt offers
    fault: tuple[Fault, ...] = ()
    alarms: int = 0  # findings of nothing that are let pass


class Named(msgspec.Struct, frozen=True, kw_only=True):
    """One finding of a reply."""

    file: str
    line: int
    kind: str

    @property
    def words(self) -> str:
        """In one line."""
        return f"{shorten(visible(self.file, keep_lines=False), _SHOWN)}:{self.line} {self.kind}"

    def meets(self, fault: Fault) -> bool:
        """Whether it names a fault where it stands."""
        in_place = self.file == fault.file and fault.lines[0] <= self.line <= fault.lines[1]
        return in_place and self.kind in fault.kinds


def read_findings(reply: str, kinds: tuple[str, ...]) -> list[Named] | str:
    """The findings of a reply's last JSON list, in a block or bare; or why it holds none.

    Parameters
    ----------
    reply : str
        All that was written; it may hold anything.
    kinds : tuple of str
        That a finding may have.
    """
    text = answer_text(reply)
    blocks = find_blocks(text)
    lists = [data for block in blocks if isinstance(data := _parsed(block.text), list)]
    data = lists[-1] if lists else None if blocks else _parsed(text[text.find("[") : text.rfind("]") + 1])
    if not isinstance(data, list):
        return "holds no JSON list"
    if len(data) > MOST_FINDINGS:
        return f"lists {len(data)} findings"
    found = []
    for number, one in enumerate(data, 1):
        if not isinstance(one, dict) or set(one) != {"file", "line", "kind"}:
            return f"finding {number} has not just file, line and kind"
        file, line, kind = one["file"], one["line"], one["kind"]
        if not isinstance(file, str) or isinstance(line, bool) or not isinstance(line, int):
            return f"finding {number} names no file as text, or no line as a whole number"
        if kind not in kinds:
            return f"finding {number} is of a kind that is not offered: {shorten(visible(str(kind)), _SHOWN)}"
        found.append(Named(file=file, line=line, kind=kind))
    return found


def _parsed(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def _run(bench: Bench, check: FindingsCheck) -> CheckResult:
    found = read_findings(bench.files[bench.main], check.kinds)
    total = max(1, len(check.fault))
    if isinstance(found, str):
        said = f"the reply {found}"
        return make_result(check, Finding(end=RunEnd.FINISHED, agreed=0, detail=said, feedback=said), total, 0.0)
    missed = [fault for fault in check.fault if not any(one.meets(fault) for one in found)]
    # naming a fault twice is no alarm; naming it under every kind is
    alarms = [one for one in found if not any(one.meets(fault) for fault in check.fault)]
    faults = [f"misses {fault.kinds[0]} in {fault.file}, line {fault.lines[0]}" for fault in missed]
    faults += [f"false alarm: {one.words}" for one in alarms]
    agreed = max(0, total - len(missed) - max(0, len(alarms) - check.alarms)) if check.fault or not alarms else 0
    finding = Finding(end=RunEnd.FINISHED, agreed=agreed, detail="; ".join(faults), feedback="it is not complete")
    passed = not missed and len(alarms) <= check.alarms
    return msgspec.structs.replace(make_result(check, finding, total, 0.0), passed=passed, is_partial=True)


def _faults(check: FindingsCheck) -> Iterable[tuple[str, str]]:
    for fault in check.fault:
        unknown = [kind for kind in fault.kinds if kind not in check.kinds]
        if unknown or not fault.kinds:
            yield f"a fault in {fault.file} is of no kind that is offered", f"Write one of {', '.join(check.kinds)}."
        if not 1 <= fault.lines[0] <= fault.lines[1]:
            yield f"lines {fault.lines[0]} to {fault.lines[1]} are no lines", "Write the first and the last, from 1."


def _unfair(_exercise: Exercise, check: FindingsCheck, said: str) -> Iterable[str]:
    for kind in check.kinds:
        if f"`{kind}`" not in said:
            yield f"the prompt never offers the kind `{kind}`"
    for fault in check.fault:
        if fault.file not in said:
            yield f'the prompt never names the file "{fault.file}"'


FINDINGS = CheckKind(spec=FindingsCheck, answers="text", faults=_faults, run=_run, unfair=_unfair)
