"""A campaign that stops when it is decided: blocks drawn beforehand, looks after each, what a candidate still needs."""

from collections.abc import Callable, Sequence
from statistics import NormalDist
from typing import Any, TypeVar

import msgspec

from kettlefield.campaign.measuring import ANSWERS, PARTS
from kettlefield.campaign.turns import Standing
from kettlefield.core.acceptance import Criterion, NoWorse, Status, Threshold
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.block_draw import draw_blocks
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.sequential import chance_decided
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.looks import (
    DECIDED,
    fractions_at,
    is_looked_at,
    judge_apart,
    judge_by_looks,
    judge_timing,
    take_look,
    timed_criteria,
)
from kettlefield.decision.measures import MEASURES
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.record.store import Record
from kettlefield.results.comparison import Window, compare
from kettlefield.results.frames import every_trial_frame
from kettlefield.results.look_rows import Look, blocks_asked, blocks_of, looks_of, newest_rows, start_seconds
from kettlefield.suite.format import Exercise

T = TypeVar("T")

LEAST_IN_BLOCK = 5  # tasks: with fewer a look costs more than it can tell
TOSS_UP = 2.5  # drift, either way, of a criterion of which nothing is known: one look at the end decides 8 of 10 such


def drawn_blocks(plan: Plan, asked: Asked) -> dict[str, int]:
    """The block of each exercise, drawn by the plan's seed; variants of one task are in one block.

    Raises
    ------
    InputError
        There is nothing to decide, or too little for two looks.
    """
    where = f"{plan.path} [campaign]"
    if not plan.criteria:
        raise InputError("stops when it is decided, and there is no criterion", where, "Add [[criterion]] to the plan.")
    units, strata, names = [], [], []
    for share in asked.shares:
        for exercise in share.exercises:
            # every rig of several asks the same, so one that lacks a toolchain is refused
            if plan.rigs or exercise.id not in asked.not_measured:
                units.append(f"{share.name}/{_own_id(exercise)}")
                strata.append((share.name, exercise.spec.kind, exercise.spec.language, str(exercise.spec.difficulty)))
                names.append(exercise.id)
    tasks = len(set(units))
    looks = min(plan.campaign.looks, tasks // LEAST_IN_BLOCK)
    if looks < 2:
        hint = f"Ask {2 * LEAST_IN_BLOCK} or more, or leave `until` out: then everything is asked."
        raise InputError(f"{tasks} exercises are too few for two looks", where, hint)
    return dict(zip(names, draw_blocks(units, strata, looks, plan.candidates[0].sampling.seed), strict=True))


def _own_id(exercise: Exercise) -> str:
    return exercise.id.rpartition("/")[2]


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """How a candidate stands after a look, for who watches."""

    candidate: str
    words: str
    goes_on: bool


class Deciding:
    """Takes the looks of one campaign and says what each candidate still needs.

    ``complete`` goes on when all is decided, for the report: the decisions stay those of the looks.
    """

    def __init__(
        self, plan: Plan, record: Record, note: Callable[[str, int | None], None], *, complete: bool = False
    ) -> None:
        self._plan, self._record, self._note, self._complete = plan, record, note, complete
        blocks = blocks_of(record)
        assert blocks is not None  # noqa: S101 - the campaign was begun so
        self.blocks = blocks
        self._paired = any(isinstance(c.threshold, NoWorse) and not c.threshold.than_empty for c in plan.criteria)
        self._references = {one.family: one.name for one in plan.candidates if one.reference}
        self._known: dict[tuple[str, str], tuple[object, Any]] = {}

    def say_what_waits(self) -> None:
        """Name the criteria that no look can judge."""
        waiting = [one for one in self._plan.criteria if MEASURES[one.measure].judged == "on the whole"]
        if waiting:
            names = "; ".join(f"{one.label} {one.wanted}" for one in waiting)
            text = "can only be judged on the whole, so a candidate that nothing rejects is asked everything"
            self._note(f"{names}: {text}", None)

    def standing(self, candidate: Candidate, *, to_be_measured: bool, among: Sequence[str]) -> Standing:
        """How far a candidate is; looks that it missed are taken first.

        Parameters
        ----------
        candidate : Candidate
            Of the plan, in the record.
        to_be_measured : bool
            Whether some of its speed or memory is not measured yet.
        among : sequence of str
            Candidates that are run beside it.
        """
        self.catch_up(candidate)
        reference = self._reference_of(candidate)
        start_s, block_s = self._seconds(candidate)
        open_ = self.is_open(candidate)
        return Standing(
            candidate=candidate.name,
            reference=reference if reference in among else None,
            is_baseline=candidate.baseline,
            asked=self.asked(candidate),
            wants_more=open_,
            to_be_measured=to_be_measured and self.rejected_apart(candidate) is None,
            start_s=start_s,
            block_s=block_s,
            chance=self._chance(candidate) if open_ else 0.0,
        )

    def asked(self, candidate: Candidate) -> int:
        """Blocks, from the first, that a candidate was asked whole."""
        return blocks_asked(self._record).get(candidate.name, 0)

    def _reference_of(self, candidate: Candidate) -> str | None:
        reference = self._references.get(candidate.family)
        return reference if self._paired and reference != candidate.name else None

    def catch_up(self, candidate: Candidate) -> Step | None:
        """Take the looks that are due: after each block that was asked whole, of the reference level too where a
        criterion pairs them. How the candidate stands after the last of them; None where none was due.
        """
        if candidate.baseline:
            return None
        asked = blocks_asked(self._record)
        mine, reference = asked.get(candidate.name, 0), self._reference_of(candidate)
        paired_upto = mine if reference is None else min(mine, asked.get(reference, 0))
        candidate_id = self._record.candidate_id(candidate.name)
        taken = {(look.block, look.criterion) for look in looks_of(self._record) if look.candidate == candidate.name}
        step = None
        for block in range(1, mine + 1):
            due = {
                number
                for number, one in enumerate(self._plan.criteria, 1)
                if is_looked_at(one)
                and (block, number) not in taken
                and block <= (paired_upto if isinstance(one.threshold, NoWorse) else mine)
            }
            if not due or candidate_id is None:
                continue
            seen = take_look(self._record, self._plan.criteria, self._plan.weights, candidate.name, block)
            entries = [one.entry(candidate_id, block) for one in seen if one.number in due]
            self._record.save_looks(entries)
            if entries:
                step = Step(candidate=candidate.name, words=self._words(candidate), goes_on=self.is_open(candidate))
        return step

    def is_open(self, candidate: Candidate) -> bool:
        """Whether some criterion of a candidate needs another block."""
        if self._is_asked_all(candidate) or candidate.baseline:
            return False
        if self._complete:
            return True
        judged = self._judged(candidate)
        if any(status is Status.NOT_MET for _, status in judged):
            return False
        return any(
            status is Status.UNDECIDED and MEASURES[criterion.measure].judged != "apart" for criterion, status in judged
        )

    def parts_over(self, candidate: Candidate) -> frozenset[str]:
        """The parts of which nothing more is done for a candidate, since what is known of it decides already; a
        reference level is asked for as long as a level that is compared with it.
        """
        if self._record.candidate_id(candidate.name) is None:
            return frozenset()  # new in the plan
        if self.rejected_apart(candidate) is not None:
            return frozenset(PARTS)
        if candidate.baseline or self._is_asked_all(candidate) or self.is_open(candidate):
            return frozenset()
        compared = [one for one in self._plan.candidates if self._reference_of(one) == candidate.name]
        is_over = all(self._is_asked_all(one) or ANSWERS in self.parts_over(one) for one in compared)
        return frozenset({ANSWERS} if is_over else ())

    def _is_asked_all(self, candidate: Candidate) -> bool:
        return self.asked(candidate) >= self.blocks.count

    def rejected_apart(self, candidate: Candidate) -> str | None:
        """The criterion, in words, that a candidate fails without an answer, so that it never sees the suite; None
        where none is known to fail, and for a reference level, which others need.
        """
        if candidate.baseline or candidate.reference or self._complete:
            return None
        return self._once("apart", candidate, self._fails_apart)

    def _fails_apart(self, candidate: Candidate) -> str | None:
        for one in judge_apart(self._record, self._plan.criteria, self._plan.weights, candidate.name):
            if one.status is Status.NOT_MET:
                return f"{one.criterion.label} {one.criterion.wanted} is not met"
        return None

    def looks_at_timing(self, candidate: Candidate) -> bool:
        """Whether requests timed one at a time may stop when their criteria are decided."""
        return bool(timed_criteria(self._plan.criteria)) and not (candidate.baseline or self._complete)

    def timing_is_decided(self, candidate: Candidate, looks: tuple[int, ...], most: int) -> bool:
        """Whether every criterion on such requests is decided, after looks at so many of them, of so many at most."""
        judged = judge_timing(self._record, self._plan.criteria, self._plan.weights, candidate.name, looks, most)
        return all(one.status in DECIDED for one in judged)

    def _once(self, what: str, candidate: Candidate, read: Callable[[Candidate], T]) -> T:
        """What was read of a candidate since something that bears on it was written, by whoever it was: all of them
        stand beside each other after every block, and just one of them was asked something.
        """
        candidate_id = self._record.candidate_id(candidate.name)
        if candidate_id is None:
            return read(candidate)
        state = newest_rows(self._record, candidate_id)
        if (what, candidate.name) not in self._known or self._known[what, candidate.name][0] != state:
            self._known[what, candidate.name] = (state, read(candidate))
        known: T = self._known[what, candidate.name][1]
        return known

    def _judged(self, candidate: Candidate) -> list[tuple[Criterion, Status]]:
        return self._once("judged", candidate, self._judge)

    def _judge(self, candidate: Candidate) -> list[tuple[Criterion, Status]]:
        if candidate.name not in blocks_asked(self._record):
            return [(criterion, Status.UNDECIDED) for criterion in self._plan.criteria]
        every = frozenset(self.blocks.of)
        table = compare(self._record, window=Window(exercises=every, candidates=frozenset({candidate.name})))
        row = next(row for row in table.rows if row.candidate == candidate.name)
        evidence = Evidence(self._record, table.trials, self._plan.weights)
        judgements = judge_by_looks(self._record, evidence, row, self._plan.criteria, looks_of(self._record))
        return [(one.criterion, one.status) for one in judgements]

    def _words(self, candidate: Candidate) -> str:
        """Which criteria are decided after the last look, and how near the others are."""
        looks = [look for look in looks_of(self._record) if look.candidate == candidate.name]
        asked = len(self.blocks.upto(self.asked(candidate)))
        parts = []
        for number, criterion in enumerate(self._plan.criteria, 1):
            mine = [look for look in looks if look.criterion == number]
            if not mine:
                continue
            deciding = next((look for look in mine if look.status in DECIDED), None)
            name = f"{criterion.label} {criterion.wanted}"
            parts.append(f"{name} {deciding.status.value}" if deciding else f"{name} open{_distance(mine[-1])}")
        return f"after {asked} of {len(self.blocks.of)} exercises: {'; '.join(parts)}"

    def _seconds(self, candidate: Candidate) -> tuple[float, float]:
        """What a start of its server costs, and a block of the suite; 0 where that is not known."""
        trials = every_trial_frame(self._record)
        mine = trials[(trials["candidate"] == candidate.name) & trials["finished_s"].notna()]
        asked = len(set(mine["exercise"]))
        per_block = len(self.blocks.of) / self.blocks.count
        block_s = (
            float(mine["finished_s"].sum()) / asked * per_block / candidate.grading.concurrent_trials if asked else 0.0
        )
        return start_seconds(self._record).get(candidate.name, 0.0), block_s

    def _chance(self, candidate: Candidate) -> float:
        """How many of its open criteria the next block is expected to decide, at what was found so far."""
        total, block = 0.0, self.asked(candidate) + 1
        for number, criterion in enumerate(self._plan.criteria, 1):
            looks = [
                look for look in looks_of(self._record) if look.candidate == candidate.name and look.criterion == number
            ]
            if is_looked_at(criterion) and not any(look.status in DECIDED for look in looks):
                fractions, _, _ = fractions_at(self._record, self.blocks, criterion, block)
                if fractions:
                    total += chance_at_next(criterion, looks[-1] if looks else None, fractions)
        return total


def _distance(look: Look) -> str:
    if look.figure is None or look.figure.low is None or look.figure.high is None:
        return ""
    return f" at {look.figure.value:.2f} ({look.figure.low:.2f} to {look.figure.high:.2f})"


def score_of(criterion: Criterion, figure: Estimate | None, confidence: float) -> float | None:
    """The standard normal score of a criterion, from an interval of one-sided confidence; None without an end."""
    threshold = criterion.threshold
    if figure is None or figure.low is None or figure.high is None or figure.high <= figure.low:
        return None
    wanted = -threshold.margin if isinstance(threshold, NoWorse) else None
    if isinstance(threshold, Threshold):
        wanted = threshold.at_least if threshold.at_least is not None else threshold.at_most
    if wanted is None:
        return None
    return (figure.value - wanted) * 2 * NormalDist().inv_cdf(confidence) / (figure.high - figure.low)


def chance_at_next(criterion: Criterion, last: Look | None, fractions: Sequence[float]) -> float:
    """The chance that the last of some looks decides a criterion that is open before it.

    Parameters
    ----------
    criterion : Criterion
        One that looks judge.
    last : Look or None
        What was seen of it last: what it found is taken for the truth. None: as likely met as not.
    fractions : sequence of float, shape (n_looks,)
        Share of its exercises at each look, the coming one last.
    """
    error = 1 - criterion.confidence
    score = score_of(criterion, last.figure, last.confidence) if last is not None else None
    if last is None or score is None:
        return chance_decided(TOSS_UP, fractions, error)[-1]
    at = last.exercises / last.planned
    return chance_decided(score / at**0.5, fractions, error, seen=score, at=at)[-1]
