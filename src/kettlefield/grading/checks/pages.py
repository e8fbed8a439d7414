"""Checks of web pages: opened in a real browser inside the isolation, judged out here.

One run visits the page for all its checks, each time afresh and at a stated width.
"""

import json
import secrets
from collections.abc import Collection, Iterable, Sequence
from typing import Any

import msgspec

from kettlefield.core.errors import RigError
from kettlefield.core.outcome import CheckResult
from kettlefield.grading.builds import HARNESS_DIR, Built
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.checks.page_judging import MOST_ELEMENTS, Visit, Visited, judged, why_lost
from kettlefield.grading.checks.page_steps import (
    WIDTHS,
    Expect,
    PageCheck,
    PageRulesCheck,
    Step,
    Width,
    read_steps,
    size_of,
    unsaid_targets,
    untried_breakpoints,
)
from kettlefield.grading.results import (
    lines_of,
)
from kettlefield.languages.all_languages import find_toolchain
from kettlefield.languages.html import DRIVER
from kettlefield.languages.language import HARNESS, Missing
from kettlefield.languages.packages import find_packages
from kettlefield.languages.python import FLAGS
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import Sandbox
from kettlefield.suite.format import Check, Exercise

BROWSER_BYTES = 2**30  # what the browser and its driver take before any page
RUN_S = 120.0  # all visits of one answer together; one step is bounded by the harness, far below this
_PROGRAM, _SCRIPTS = "page.py", ("inventory.js", "reading.js")
MOST_LISTED = 400  # controls and styles of text that the rules look at


SEEN = "pages"  # where a bench keeps what the browser saw of its answer


def _run_check(bench: Bench, check: PageCheck | PageRulesCheck) -> CheckResult:
    """Open the page once for each of its checks and widths, and judge what was seen."""
    visited = bench.seen.get(SEEN)
    if not isinstance(visited, Visited):
        visited = bench.seen[SEEN] = _visit(bench)
    if not bench.pictures:
        bench.pictures.extend(visited.pictures)
    return visited.results[check.name]


def _visit(bench: Bench) -> Visited:
    return visit_pages(bench.exercise, bench.checks, [bench.built], bench.sandbox, pictures=True)[0]


def visit_pages(
    exercise: Exercise, checks: tuple[Check, ...], answers: Sequence[Built], sandbox: Sandbox, *, pictures: bool
) -> list[Visited]:
    """The same for several answers in one browser: for a suite's own answers and decoys, which one hand wrote.

    An answer that ends the browser's run is the last of it; those after it get a run of their own. Pictures at each
    of the named widths are taken and kept where that is asked for; else one shows whether there is anything to see.

    Raises
    ------
    RigError
        The browser or its driver is missing.
    """
    visited: list[Visited] = []
    while len(visited) < len(answers):
        visited += _run(exercise, checks, answers[len(visited) :], sandbox, pictures=pictures)
    return visited


def _run(
    exercise: Exercise, checks: tuple[Check, ...], answers: Sequence[Built], sandbox: Sandbox, *, pictures: bool
) -> list[Visited]:
    """As many of the answers as one run of the browser gets through, at least one."""
    visits = _visits(exercise, checks, WIDTHS if pictures else list(WIDTHS)[:1])
    nonce = secrets.token_hex(16)
    report = sandbox.run(_job(exercise, visits, answers, nonce))
    frames = lines_of(report.results, nonce)
    by_visit = {frame["visit"]: frame for frame in frames if "visit" in frame and "seen" in frame}
    lost = why_lost(report, frames)
    visited: list[Visited] = []
    for number in range(len(answers)):
        mine = [by_visit.get(number * len(visits) + place) for place in range(len(visits))]
        pairs = list(zip(visits, mine, strict=True))
        visited.append(judged(pairs, lost, report.wall_s / len(answers), keep_pictures=pictures))
        if None in mine:
            break
    return visited


def _visits(exercise: Exercise, checks: tuple[Check, ...], pictured: Collection[Width]) -> list[Visit]:
    rules = [check for check in checks if isinstance(check, PageRulesCheck)]
    visits: list[Visit] = []
    both: list[PageCheck | PageRulesCheck] = [*rules, *(check for check in checks if isinstance(check, PageCheck))]
    seen: set[Width] = set()
    for check in both:
        steps = exercise.cases[check.name] if isinstance(check, PageCheck) else ()
        for width in check.widths if isinstance(check, PageCheck) else WIDTHS:
            # a picture of each of the named widths is enough
            visits.append(Visit(check=check, width=width, steps=steps, picture=width in pictured and width not in seen))
            seen.add(width)
    unseen = [width for width in pictured if width not in seen]
    return [*visits, *(Visit(check=None, width=width, steps=(), picture=True) for width in unseen)]


def _job(exercise: Exercise, visits: list[Visit], answers: Sequence[Built], nonce: str) -> Job:
    python = find_toolchain("python")
    driver = find_packages((DRIVER,))
    if isinstance(python, Missing) or isinstance(driver, str):
        raise RigError("no page can be opened", exercise.id, "Install it: pip install 'kettlefield[pages]'.")
    order = {
        "nonce": nonce,
        "main": answers[0].main,
        "stuck_s": max(1, round(exercise.spec.limits.wall)),
        "most_elements": MOST_ELEMENTS,
        "most_listed": MOST_LISTED,
        "visits": [
            {
                "answer": number,
                "size": size_of(visit.width),
                "steps": [_without_wish(step) for step in visit.steps],
                "picture": visit.picture,
                "rules": isinstance(visit.check, PageRulesCheck),
            }
            for number in range(len(answers))
            for visit in visits
        ],
    }
    # answers that share a run are not shut off from each other
    files = {
        f"{number}/{name}": text
        for number, built in enumerate(answers)
        for name, text in {**exercise.given, **built.texts}.items()
    }
    harness = {f"{HARNESS_DIR}/{name}": (HARNESS / name).read_text(encoding="utf-8") for name in (_PROGRAM, *_SCRIPTS)}
    browser = answers[0].toolchain
    return Job(
        argv=(python.program, *FLAGS, f"{HARNESS_DIR}/{_PROGRAM}", "{fd}"),
        limits=RunLimits(
            wall_s=RUN_S * len(answers),
            cpu_s=RUN_S * len(answers),
            memory_bytes=BROWSER_BYTES + exercise.spec.limits.memory,
            output_bytes=2**20,
            processes=1024,  # threads count, and a browser has some hundred
            scratch_bytes=256 * 2**20,
        ),
        files={**files, **harness},
        stdin=json.dumps({**order, "browser": browser.program, "files": sorted(files)}).encode(),
        mounts=(*python.mounts, *browser.mounts, *driver.mounts),
        env={"PACKAGES": ":".join(driver.search)},
        bound_address_space=False,
    )


def _without_wish(step: Step) -> dict[str, Any]:
    """A step as it goes in: what is done and looked at, never what is expected."""
    if isinstance(step, Expect):
        what = "picture" if step.what == "colour" else step.what
        return {"do": "expect", "what": what, "of": msgspec.to_builtins(step.of), "property": step.called}
    plain: dict[str, Any] = msgspec.to_builtins(step)
    return plain


def _unfair(exercise: Exercise, check: PageCheck, said: str) -> Iterable[str]:
    yield from unsaid_targets(exercise, check, said)
    if check is next(one for one in exercise.checks if isinstance(one, PageCheck)):
        yield from untried_breakpoints(exercise, said)


PAGE_KIND = CheckKind(
    spec=PageCheck,
    answers="page",
    read=read_steps,
    run=_run_check,
    unfair=_unfair,
    # what a page must show is never worked out by running an answer
    by_hand=lambda steps: sum(isinstance(step, Expect) for step in steps),
)
RULES = CheckKind(spec=PageRulesCheck, answers="page", run=_run_check)
