"""What a record holds for measures: trials narrowed as a criterion has it, timed samples, memory and marks."""

from functools import cached_property

import pandas as pd

from kettlefield.core.acceptance import Criterion, NoWorse, Threshold
from kettlefield.core.outcome import RunEnd, escape_signs
from kettlefield.core.statistics.paired import exercises_needed, exercises_to_clear
from kettlefield.marking.scale import Weights
from kettlefield.marking.scores import Marking, read_marking
from kettlefield.record.store import Record
from kettlefield.results.breakdown import belongs, by_suite, exercises_frame
from kettlefield.results.capacity import Load, loads_of
from kettlefield.results.comparison import Figures
from kettlefield.results.frames import counted_trials, trials_at
from kettlefield.results.memory_use import Memory
from kettlefield.results.memory_use import memories as all_memories
from kettlefield.results.paired_comparison import Against, against_empty, find_against
from kettlefield.results.rows import check_details, exercise_rows
from kettlefield.results.speed import timed_frame


class Evidence:
    """What measures are found in; each part of a record is read once, when something asks for it."""

    def __init__(
        self,
        record: Record,
        trials: pd.DataFrame,
        weights: Weights,
        *,
        fill: float | None = None,
        within: frozenset[str] | None = None,
    ) -> None:
        self._weights, self._fill, self._within = weights, fill, within
        self.record = record
        self._all_trials = trials

    def at_fill(self, fill: float) -> "Evidence":
        """The evidence of what was asked with a share of the context taken."""
        return Evidence(self.record, trials_at(self.record, fill), self._weights, fill=fill, within=self._within)

    @property
    def is_look(self) -> bool:
        """Whether it is one of several looks: some of the exercises, as if they were all."""
        return self._within is not None

    def exercises_of(self, criterion: Criterion) -> int:
        """How many exercises a criterion is about."""
        return len(self._wanted(criterion))

    def is_narrowed(self, criterion: Criterion) -> bool:
        """Whether a criterion is about other trials than all that were asked with the exercise alone."""
        return bool(criterion.among) or self._fill is not None

    def against_empty(self, row: Figures, criterion: Criterion) -> Against | None:
        """The candidate compared with itself on what was asked with the exercise alone."""
        empty = counted_trials(trials_at(self.record, None))
        return against_empty(self._narrowed(criterion), empty, row.candidate)

    def against(self, row: Figures, criterion: Criterion) -> Against | None:
        """The candidate compared with its reference level, on the exercises that a criterion is about."""
        if not self.is_narrowed(criterion) or row.against is None:
            return row.against
        return find_against(self._narrowed(criterion), row.candidate, row.against.reference)

    def planned(self, row: Figures, criterion: Criterion) -> int:
        """How many trials the campaign asks for among the exercises that a criterion is about."""
        if not criterion.among:
            return row.planned
        return round(row.planned / max(1, len(self.exercises)) * len(self._wanted(criterion)))

    def trials(self, row: Figures, criterion: Criterion) -> int:
        """How many of them count."""
        if not self.is_narrowed(criterion):
            return row.trials
        narrowed = self._narrowed(criterion)
        return int((narrowed["candidate"] == row.candidate).sum())

    def counted(self, row: Figures, criterion: Criterion) -> int:
        """How many of its trials count at a look; where it is paired, how many pairs do."""
        if not isinstance(criterion.threshold, NoWorse):
            return self.at_criterion(criterion).trials(row, criterion)
        evidence = self.at_criterion(criterion)
        than_empty = criterion.threshold.than_empty
        against = evidence.against_empty(row, criterion) if than_empty else evidence.against(row, criterion)
        return against.pairs.pairs if against is not None else 0

    def at_criterion(self, criterion: Criterion) -> "Evidence":
        """The evidence at the fill of the context that a criterion is about."""
        return self if criterion.at_fill is None else self.at_fill(criterion.at_fill)

    def exercises_needed(self, row: Figures, criterion: Criterion) -> int | None:
        """How many exercises would put the pass rate's bound clear of the threshold; None: unknown, or hardly any."""
        suites = row.suites
        if self.is_narrowed(criterion):
            mine = self._narrowed(criterion)
            suites = by_suite(mine[mine["candidate"] == row.candidate], self.exercises)
        threshold = criterion.threshold.at_least if isinstance(criterion.threshold, Threshold) else None
        if len(suites) != 1 or not suites[0].passes or threshold is None:
            return None
        passed, asked = zip(*suites[0].passes, strict=True)
        return exercises_to_clear(passed, asked, threshold, confidence=criterion.confidence)

    def exercises_to_settle(self, row: Figures, criterion: Criterion) -> int | None:
        """The same of a comparison with the reference level too."""
        if not isinstance(criterion.threshold, NoWorse):
            return self.exercises_needed(row, criterion)
        than_empty = criterion.threshold.than_empty
        against = self.against_empty(row, criterion) if than_empty else self.against(row, criterion)
        if against is None:
            return None
        return exercises_needed(against.pairs, criterion.threshold.margin, confidence=criterion.confidence)

    def mine(self, row: Figures, criterion: Criterion) -> pd.DataFrame:
        """A candidate's trials among the exercises that a criterion is about."""
        narrowed = self._narrowed(criterion)
        return narrowed[narrowed["candidate"] == row.candidate]

    def at_depth(self, row: Figures, depth: int) -> pd.DataFrame:
        """A candidate's requests that were timed at a context depth, in tokens as the plan asks for it."""
        frame = self._depths
        wanted = frame["point"].map(lambda point: point["depth_tokens"] == depth).astype(bool)
        return frame[(frame["candidate"] == row.candidate) & wanted]

    def loads(self, row: Figures) -> tuple[Load, ...]:
        """Every timed start of a candidate's server."""
        return loads_of(self.record).get(row.candidate, ())

    def reference_passes(self, row: Figures, criterion: Criterion, *, than_empty: bool) -> tuple[int, int]:
        """Trials that the reference level, or the candidate with an empty context, passed, of those paired; and
        exercises of which it passed at least one.
        """
        if row.against is None and not than_empty:
            return 0, 0
        keys = ["exercise", "sample"]
        trials = self._narrowed(criterion)
        mine = trials[trials["candidate"] == row.candidate][keys]
        others = counted_trials(trials_at(self.record, None)) if than_empty else trials
        name = row.candidate if than_empty or row.against is None else row.against.reference
        other = others[others["candidate"] == name].merge(mine, on=keys)
        solved = other[other["passed"].astype(bool)]
        return len(solved), int(solved["exercise"].nunique())

    def _narrowed(self, criterion: Criterion) -> pd.DataFrame:
        return self._trials[self._trials["exercise"].isin(self._wanted(criterion))]

    def _wanted(self, criterion: Criterion) -> set[str]:
        return {name for name, facts in self._properties.items() if belongs(facts, criterion.among)}

    @cached_property
    def _trials(self) -> pd.DataFrame:
        trials = counted_trials(self._all_trials)
        return trials if self._within is None else trials[trials["exercise"].isin(self._within)]

    @cached_property
    def exercises(self) -> pd.DataFrame:
        """Exercises that can be asked on the rig."""
        frame = exercises_frame(self.record)
        return frame if self._within is None else frame[frame["exercise"].isin(self._within)]

    @cached_property
    def _properties(self) -> dict[str, dict[str, str]]:
        rows = [one for one in exercise_rows(self.record) if one.not_measured is None]
        return {one.id: one.groups for one in rows if self._within is None or one.id in self._within}

    @cached_property
    def escaping(self) -> set[int]:
        """Ids of trials of which a check died of a refusal that isolation makes."""
        ends = (RunEnd.CRASHED.value, RunEnd.OVER_LIMIT.value)
        return {trial for trial, detail in check_details(self.record, ends) if escape_signs(detail)}

    @cached_property
    def _depths(self) -> pd.DataFrame:
        frame = timed_frame(self.record)
        return frame[frame["purpose"] == "depth"]

    @cached_property
    def marking(self) -> Marking:
        """Marks mixed in at the plan's weights."""
        return read_marking(self.record, self._weights)

    @cached_property
    def memories(self) -> dict[str, Memory]:
        """Memory and energy by candidate."""
        return {one.candidate: one for one in all_memories(self.record)}
