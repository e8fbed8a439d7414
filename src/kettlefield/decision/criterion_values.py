"""What a record holds of any measure that a criterion may name, narrowed as the criterion has it."""

import json
from functools import cached_property

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.acceptance import Criterion, Threshold
from kettlefield.core.measures import MEASURES, belongs
from kettlefield.core.outcome import RunEnd, escape_signs
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.core.statistics.paired import exercises_to_clear
from kettlefield.marking.scale import Weights
from kettlefield.marking.scores import Marking, mean_by_exercise, mixed_scores, read_marking
from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.results.breakdown import by_suite, exercises_frame, together
from kettlefield.results.capacity import loads_of, procedure_ends
from kettlefield.results.comparison import Figures
from kettlefield.results.frames import campaign_facts, counted_trials
from kettlefield.results.memory_use import Memory, memories
from kettlefield.results.paired_comparison import Against, find_against
from kettlefield.results.speed import GUESSED, is_guessed, off_depth, timed_frame, usable_of

Found = Estimate | float | None


class Measured:
    """Looks measures up in a record; each part of it is read once, when something asks for it."""

    def __init__(self, record: Record, trials: pd.DataFrame, weights: Weights) -> None:
        self._weights = weights
        self._record = record
        self._all_trials = trials

    def find(self, row: Figures, criterion: Criterion) -> Found:
        """What was found of a criterion's measure for one candidate.

        Parameters
        ----------
        row : Figures
            The candidate.
        criterion : Criterion
            Its interval is two-sided such that each end is a one-sided bound at the criterion's confidence.

        Returns
        -------
        Estimate, float or None
            In the measure's unit; None was not measured.
        """
        confidence = 2 * criterion.confidence - 1
        measure = MEASURES[criterion.measure]
        if measure.among and (criterion.among or measure.name != "pass_rate"):
            return self._among(row, criterion, confidence)
        if criterion.at_depth_tokens is not None and measure.field is not None and measure.quantile is not None:
            return self._at_depth(row, criterion.at_depth_tokens, measure.field, measure.quantile, confidence)
        match measure.name:
            case "capacity_rps":
                _, facts = procedure_ends(self._record).get(row.candidate, {}).get("open_loop", ("", {}))
                return float(facts["capacity_rps"]) if facts.get("capacity_rps") is not None else None
            case "cold_load_s":
                loads = loads_of(self._record).get(row.candidate, ())
                return next((load.load_s for load in loads if load.kind == "cold"), None)
            case "joules_per_solved":
                return self._memories[row.candidate].joules_per_solved
            case "stopwatch_floor_s":
                known = campaign_facts(self._record)["rig"].get("calibration")
                return float(known["floor_s"]) if known else None
        return row.estimate(measure, confidence=confidence)

    def doubt(self, row: Figures, criterion: Criterion) -> str:
        """Why what was found decides nothing, in words: disturbed, of unlike sessions, guessed; empty: it decides."""
        measure = MEASURES[criterion.measure]
        if criterion.at_depth_tokens is not None and measure.field is not None:
            mine = self._of_depth(row, criterion.at_depth_tokens)
            return GUESSED if is_guessed(mine) else off_depth(mine) or usable_of(mine, measure.field).doubt
        if measure.name == "cold_load_s":
            loads = [load for load in loads_of(self._record).get(row.candidate, ()) if load.kind == "cold"]
            return f"disturbed: {loads[0].disturbed} while it loaded" if loads and loads[0].disturbed else ""
        return row.doubts.get(measure.field or measure.name, "")

    def against(self, row: Figures, criterion: Criterion) -> Against | None:
        """The candidate compared with its reference level, on the exercises that a criterion is about."""
        if not criterion.among or row.against is None:
            return row.against
        return find_against(self._narrowed(criterion), row.candidate, row.against.reference)

    def planned(self, row: Figures, criterion: Criterion) -> int:
        """How many trials the campaign asks for among the exercises that a criterion is about."""
        if not criterion.among:
            return row.planned
        return round(row.planned / max(1, len(self._exercises)) * len(self._wanted(criterion)))

    def trials(self, row: Figures, criterion: Criterion) -> int:
        """How many of them count."""
        if not criterion.among:
            return row.trials
        narrowed = self._narrowed(criterion)
        return int((narrowed["candidate"] == row.candidate).sum())

    def exercises_needed(self, row: Figures, criterion: Criterion) -> int | None:
        """How many exercises would put the pass rate's bound clear of the threshold; None: unknown, or hardly any."""
        suites = row.suites
        if criterion.among:
            mine = self._narrowed(criterion)
            suites = by_suite(mine[mine["candidate"] == row.candidate], self._exercises)
        threshold = criterion.threshold.at_least if isinstance(criterion.threshold, Threshold) else None
        if len(suites) != 1 or not suites[0].passes or threshold is None:
            return None
        passed, asked = zip(*suites[0].passes, strict=True)
        return exercises_to_clear(passed, asked, threshold, confidence=criterion.confidence)

    def _among(self, row: Figures, criterion: Criterion, confidence: float) -> Found:
        mine = self._narrowed(criterion)
        mine = mine[mine["candidate"] == row.candidate]
        if mine.empty:
            return None
        if criterion.measure == "outcome_count":
            return float(mine["outcome"].isin(criterion.outcomes).sum())
        if criterion.measure == "escape_attempts":
            return float(mine["id"].isin(self._escaping).sum())
        if criterion.measure == "marked_score":
            marked = self._marking.trials[self._marking.trials["id"].isin(mine["id"])]
            return mean_by_exercise(marked, mixed_scores(marked, self._marking.weights_used), confidence)
        return together(by_suite(mine, self._exercises), confidence=confidence)

    def _at_depth(self, row: Figures, depth: int, field: str, quantile: float, confidence: float) -> Found:
        values = usable_of(self._of_depth(row, depth), field).values
        return quantile_interval(list(values), quantile, confidence=confidence) if values else None

    def _of_depth(self, row: Figures, depth: int) -> pd.DataFrame:
        frame = self._depths
        wanted = frame["point"].map(lambda point: point["depth_tokens"] == depth).astype(bool)
        return frame[(frame["candidate"] == row.candidate) & wanted]

    def reference_passes(self, row: Figures, criterion: Criterion) -> tuple[int, int]:
        """Trials that the reference level passed, of those paired; and exercises of which it passed at least one."""
        if row.against is None:
            return 0, 0
        keys = ["exercise", "sample"]
        trials = self._narrowed(criterion) if criterion.among else self._trials
        mine = trials[trials["candidate"] == row.candidate][keys]
        other = trials[trials["candidate"] == row.against.reference].merge(mine, on=keys)
        solved = other[other["passed"].astype(bool)]
        return len(solved), int(solved["exercise"].nunique())

    def _narrowed(self, criterion: Criterion) -> pd.DataFrame:
        return self._trials[self._trials["exercise"].isin(self._wanted(criterion))]

    def _wanted(self, criterion: Criterion) -> set[str]:
        return {name for name, facts in self._properties.items() if belongs(facts, criterion.among)}

    @cached_property
    def _trials(self) -> pd.DataFrame:
        return counted_trials(self._all_trials)

    @cached_property
    def _exercises(self) -> pd.DataFrame:
        return exercises_frame(self._record)

    @cached_property
    def _properties(self) -> dict[str, dict[str, str]]:
        table = schema.exercise
        with self._record.reading() as connection:
            rows = connection.execute(sa.select(table).where(table.c.not_measured.is_(None))).mappings()
            return {
                row["id"]: {
                    **{name: str(row[name]) for name in ("kind", "language", "difficulty", "suite")},
                    "topic": ",".join(json.loads(row["topics"])),
                }
                for row in rows
            }

    @cached_property
    def _escaping(self) -> set[int]:
        """Ids of trials of which a check died of a refusal that isolation makes."""
        check, attempt = schema.check_result, schema.attempt
        query = (
            sa.select(attempt.c.trial_id, check.c.detail)
            .join(attempt, attempt.c.id == check.c.attempt_id)
            .where(check.c.end.in_([RunEnd.CRASHED.value, RunEnd.OVER_LIMIT.value]))
        )
        with self._record.reading() as connection:
            return {row.trial_id for row in connection.execute(query) if escape_signs(row.detail)}

    @cached_property
    def _depths(self) -> pd.DataFrame:
        frame = timed_frame(self._record)
        return frame[frame["purpose"] == "depth"]

    @cached_property
    def _marking(self) -> Marking:
        return read_marking(self._record, self._weights)

    @cached_property
    def _memories(self) -> dict[str, Memory]:
        return {one.candidate: one for one in memories(self._record)}
