"""What a browser saw of a page, judged: steps, rules, pictures, and how a visit ended."""

import base64
import io
from typing import Any

import msgspec
import numpy as np
from PIL import Image

from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.page_expectations import NEAR_COLOUR, read_colour, rule_faults, shortfall
from kettlefield.core.plaintext import shorten
from kettlefield.grading.checks.page_steps import WIDTHS, Expect, PageCheck, PageRulesCheck, Step, Width
from kettlefield.grading.results import DETAIL_LIMIT, Finding, Picture, make_result, stopped, tail_of
from kettlefield.sandbox.job import RunReport

MOST_ELEMENTS = 20_000  # an honest page of ours has some hundred
MAX_PICTURE_BYTES = 2 * 2**20
Frame = dict[str, Any]  # what the harness says of one visit
_LIBRARIES = frozenset({"script", "stylesheet", "font"})


class Visited(msgspec.Struct, frozen=True, kw_only=True):
    """What one run of the browser came to."""

    results: dict[str, CheckResult]  # by check name
    pictures: tuple[Picture, ...]
    steady: bool  # nothing broke off or was waited for in vain, in which a busy rig may have had its part


class Visit(msgspec.Struct, frozen=True, kw_only=True):
    """One opening of the page."""

    check: PageCheck | PageRulesCheck | None  # none: for its picture alone
    width: Width
    steps: tuple[Step, ...]
    picture: bool


def judged(
    pairs: list[tuple[Visit, Frame | None]], lost: tuple[RunEnd, str], wall_s: float, *, keep_pictures: bool
) -> Visited:
    """What all visits of one answer come to.

    Parameters
    ----------
    pairs : list
        Each visit, and what the harness said of it; None: nothing.
    lost : tuple
        How a run ended that said nothing of a visit, as `why_lost` has it.
    wall_s : float
        What the visits took together, in seconds.
    keep_pictures : bool
        Make the pictures that were taken fit to be kept, which takes longer than to look whether they show anything.
    """
    taken = [
        (visit, image)
        for visit, frame in pairs
        if visit.picture and frame is not None and (image := _image(frame.get("picture", ""))) is not None
    ]
    blank = bool(taken) and all(_is_blank(image) for _, image in taken)
    pictures = tuple(
        Picture(width=str(visit.width), png=png)
        for visit, image in (taken if keep_pictures else ())
        if (png := _png(image))
    )
    results = {}
    for check in dict.fromkeys(visit.check for visit, _ in pairs if visit.check is not None):
        mine = [(visit, frame) for visit, frame in pairs if visit.check is check]
        total = sum(_asked_of(visit) for visit, _ in mine)
        results[check.name] = make_result(check, _judge(mine, lost, blank=blank), total, wall_s)
    return Visited(results=results, pictures=pictures, steady=all(_is_steady(frame) for _, frame in pairs))


def _is_steady(frame: Frame | None) -> bool:
    return frame is not None and not frame["fault"] and not any("failed" in entry for entry in frame["seen"])


def why_lost(report: RunReport, frames: list[Frame]) -> tuple[RunEnd, str]:
    """How the run ended before visits that reported nothing."""
    stop = stopped(report)
    if stop is not None and stop[0] is not RunEnd.TIMED_OUT:
        return stop
    stuck = next((frame["stuck"] for frame in frames if "stuck" in frame), None)
    if not any("opened" in frame for frame in frames):
        return RunEnd.RIG_FAULT, f"the browser did not start: {tail_of(report)}"
    if stuck is not None:
        when = f"at step {stuck['step']}" if stuck["step"] else "while it was opened"
        return RunEnd.TIMED_OUT, f"the page gave no sign any more {when}"
    if stop is not None:
        return stop
    return RunEnd.CRASHED, "the browser ended"


def _asked_of(visit: Visit) -> int:
    if isinstance(visit.check, PageRulesCheck):
        return len(visit.check.rules)
    return sum(isinstance(step, Expect) for step in visit.steps)


def _judge(mine: list[tuple[Visit, Frame | None]], lost: tuple[RunEnd, str], *, blank: bool) -> Finding:
    """All visits of one check: how the worst of them ended, how many expectations held, the first fault."""
    agreed, faults = 0, []
    for visit, frame in mine:
        if frame is None:
            end, said = lost
            faults.append(Finding(end=end, agreed=0, detail=f"{_where(visit.width)}: {said}", feedback=said))
            break
        finding = _judge_visit(visit, frame, blank=blank)
        agreed += finding.agreed
        if finding.detail:
            faults.append(finding)
    if not faults:
        return Finding(end=RunEnd.FINISHED, agreed=agreed)
    worst = next((fault for fault in faults if fault.end is not RunEnd.FINISHED), faults[0])
    return Finding(
        end=worst.end,
        agreed=agreed,
        detail=shorten(worst.detail, DETAIL_LIMIT),
        feedback=shorten(worst.feedback, DETAIL_LIMIT),
    )


def _judge_visit(visit: Visit, frame: Frame, *, blank: bool) -> Finding:
    at = f"{_where(visit.width)}: "
    ended = _ended_badly(frame)
    if ended is not None:
        return Finding(end=ended[0], agreed=0, detail=at + ended[1], feedback=at + ended[1])
    if isinstance(visit.check, PageRulesCheck):
        kept, told = _judge_rules(visit.check, frame)
        kept_told = told
    else:
        kept, told, kept_told = _judge_steps(visit.steps, frame)
    rude = _rudeness(visit.check, frame)
    if blank:
        rude = "nothing is visible"
    if rude:
        told, kept_told, kept = rude, rude, 0
    return Finding(
        end=RunEnd.FINISHED, agreed=kept, detail=at + told if told else "", feedback=at + kept_told if kept_told else ""
    )


def _ended_badly(frame: Frame) -> tuple[RunEnd, str] | None:
    """An end that no expectation can make good: too large, libraries from elsewhere, errors, requests that fail."""
    if frame["elements"] > MOST_ELEMENTS:
        return RunEnd.OVER_LIMIT, f"the page has {frame['elements']:,} elements, at most {MOST_ELEMENTS:,}"
    for kind, url in frame["outside"]:
        if kind in _LIBRARIES:
            return RunEnd.MISSING_MODULE, f"it asks for a {kind} from elsewhere: {url}"
    for kind, url in frame["outside"]:
        return RunEnd.CRASHED, f"it asks for a {kind} from elsewhere: {url}"
    if frame["errors"]:
        return RunEnd.CRASHED, str(frame["errors"][0])
    if frame["fault"]:
        fault = str(frame["fault"])
        return (RunEnd.TIMED_OUT if "Timeout" in fault else RunEnd.CRASHED), fault
    return None


def _where(width: Width) -> str:
    return f"at a width of {width} px" if isinstance(width, int) else f"at {width} width"


def _rudeness(check: PageCheck | PageRulesCheck | None, frame: Frame) -> str:
    if frame["popups"]:
        return f"it opens {frame['popups']} windows of its own"
    if frame["dialogs"] and not (isinstance(check, PageCheck) and check.dialogs):
        return f"it opens {frame['dialogs']} dialogs"
    return ""


def _judge_rules(check: PageRulesCheck, frame: Frame) -> tuple[int, str]:
    faults_by_rule = rule_faults(frame["inventory"], frame.get("reached"))
    broken = {rule: faults_by_rule[rule] for rule in check.rules if faults_by_rule[rule]}
    said = "; ".join(f"{rule}: {', '.join(faults)}" for rule, faults in broken.items())
    return len(check.rules) - len(broken), said


def _judge_steps(steps: tuple[Step, ...], frame: Frame) -> tuple[int, str, str]:
    """How many expectations held, the first that did not, and the same without what was expected."""
    seen = {entry["step"]: entry for entry in frame["seen"]}
    held, told, kept_told = 0, "", ""
    for number, step in enumerate(steps, 1):
        entry = seen.get(number)
        if entry is None and not isinstance(step, Expect):
            continue
        before = _last_action(steps[: number - 1])
        if entry is None or "failed" in entry:
            why = entry["failed"] if entry is not None else "it was not come to"
            words = f"step {number}, {step.describe()}: {why}"
            return held, told or words, kept_told or words
        if not isinstance(step, Expect):
            continue
        shown = _colour_near(entry["value"], step) if step.what == "colour" else entry["value"]
        short = shortfall(shown, step.wish)
        held += not short
        if short and not told:
            kept_told = f"{before}{step.describe()} is {_words(shown)}, which is not what was asked for"
            told = f"step {number}, {before}{step.describe()} is {_words(shown)}: {short}"
    return held, told, kept_told


def _last_action(before: tuple[Step, ...]) -> str:
    done = [step for step in before if not isinstance(step, Expect)]
    return f"after {done[-1].describe()}, " if done else ""


def _words(value: Any) -> str:
    return shorten(repr(value), DETAIL_LIMIT // 3)


def _image(text: str) -> Image.Image | None:
    """The pixels of a picture from inside the isolation; None if it is none, or is too large."""
    try:
        with Image.open(io.BytesIO(base64.b64decode(text))) as image:
            if image.width * image.height > max(w for w, _ in WIDTHS.values()) * 4000:
                return None
            return image.convert("RGB")
    except (OSError, ValueError, Image.DecompressionBombError):
        return None


def _png(image: Image.Image) -> bytes:
    """A picture made again from its pixels alone; empty if it is too large."""
    made = io.BytesIO()
    # few colours keep a page's text sharp and the record lean
    image.quantize(64).save(made, "PNG", optimize=True)
    return made.getvalue() if made.tell() <= MAX_PICTURE_BYTES else b""


def _is_blank(image: Image.Image) -> bool:
    return len(image.getcolors(2) or (0, 0)) == 1


def _colour_near(text: str, step: Expect) -> str:
    """The wanted colour where it is near a place of an element, else the colour at that place, as ``#rrggbb``."""
    try:
        with Image.open(io.BytesIO(base64.b64decode(text))) as image:
            pixels = np.asarray(image.convert("RGB"), dtype=int)
    except (OSError, ValueError, Image.DecompressionBombError):
        return "no picture"
    assert step.at is not None  # noqa: S101 - the loader sees to it
    height, width = pixels.shape[:2]
    x, y = round(step.at[0] * (width - 1)), round(step.at[1] * (height - 1))
    reach = max(1, round(step.reach * width))
    near = pixels[max(0, y - reach) : y + reach + 1, max(0, x - reach) : x + reach + 1].reshape(-1, 3)
    for wanted in filter(None, (step.equals, step.lacks)):
        colour = read_colour(str(wanted))
        if colour is not None and (np.abs(near - np.array(colour[:3])).max(axis=1) <= NEAR_COLOUR).any():
            return str(wanted)
    red, green, blue = pixels[min(max(y, 0), height - 1), min(max(x, 0), width - 1)]
    return f"#{red:02x}{green:02x}{blue:02x}"
