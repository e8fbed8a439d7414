"""Checks of words and of edits, which need nothing run: facts in an explanation, the scope of a change."""

import dataclasses
import re

from kettlefield.core.extraction.patching import lines_changed_outside
from kettlefield.core.outcome import RunEnd
from kettlefield.core.values import occurs
from kettlefield.grading.results import CheckResult, Finding, make_result
from kettlefield.suite.format import Exercise, ScopeCheck, TextCheck


def check_text(check: TextCheck, text: str) -> CheckResult:
    """Look for the facts and claims of a ``text`` check; a fact counts however it is worded among its patterns."""
    missing = [fact.name for fact in check.must if not any(occurs(pattern, text) for pattern in fact.any)]
    wrong = [claim.name for claim in check.must_not if any(occurs(pattern, text) for pattern in claim.any)]
    words = len(text.split())
    faults = [f"does not say: {name}" for name in missing] + [f"says: {name}" for name in wrong]
    too_long = check.max_words is not None and words > check.max_words
    if words < check.min_words or too_long:
        faults.append(f"has {words} words, wanted {check.min_words} to {check.max_words or 'any number'}")
    total = len(check.must) + len(check.must_not)
    agreed = total - len(missing) - len(wrong)
    enough = len(check.must) - len(missing) >= check.at_least * len(check.must)
    passed = enough and not wrong and not too_long and words >= check.min_words
    finding = Finding(end=RunEnd.FINISHED, agreed=agreed, detail="; ".join(faults), feedback="")
    # fewer facts than all may be enough
    return dataclasses.replace(make_result(check, finding, total, 0.0), passed=passed)


def check_scope(exercise: Exercise, check: ScopeCheck, files: dict[str, str]) -> CheckResult:
    """See whether an edit stayed in its regions and kept the names and signatures that it had to."""
    faults = []
    found = files.get(check.file)
    if found is None:
        faults.append(f"{check.file} is not there any more")
    else:
        outside = lines_changed_outside(exercise.given[check.file], found, check.regions)
        if outside > check.max_outside:
            faults.append(f"{outside} lines changed outside the part to be fixed (at most {check.max_outside})")
        folded = _folded(found)
        faults += [f"no longer holds {piece!r}" for piece in check.keep if _folded(piece) not in folded]
    said = "; ".join(faults)
    finding = Finding(end=RunEnd.FINISHED, agreed=int(not faults), detail=said, feedback=said)
    return make_result(check, finding, 1, 0.0)


def _folded(text: str) -> str:
    return re.sub(r"\s+", " ", text).strip()
