"""Fourth question: what is right, what fails, how - and what did the model write?"""

import base64
from collections.abc import Iterator, Mapping
from typing import Any

import pandas as pd

from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.results.rows import candidate_rows, exercise_rows, open_trial
from kettlefield.results.workspace_runs import Run, workspace_runs
from kettlefield.views.answers_view import groups_table, outcomes_table
from kettlefield.views.figures.level_charts import LETTERS, letter_of, outcome_cells, outcome_grid
from kettlefield.views.lost_answers import lost_answers
from kettlefield.views.material import Material
from kettlefield.views.parts import (
    Grid,
    OpenExercise,
    OpenTrial,
    Passage,
    Picture,
    Section,
    Square,
    Tone,
    Trials,
    cut,
)
from kettlefield.views.sections.openings import correctness_opening
from kettlefield.views.table import Words, present
from kettlefield.views.workspace_view import turn_text, work_line, workspace_tables

MOST_TRIALS = 500  # to open in the page, which is to be mailed, and in each page of further ones
MOST_PICTURES = 120  # of pages, some ten thousand bytes each
MOST_ROWS = 400  # exercises in the grid
WORK_CHARS = 9000  # of a run in a workspace that failed
PROMPT_CHARS, FAILED_CHARS, PASSED_CHARS, ERROR_CHARS = 4000, 3000, 1200, 1500


def correctness_section(material: Material) -> Section:
    """The section."""
    trials = material.decision.table.trials
    opened = _chosen(trials)
    return Section(
        anchor="correctness",
        title="Correctness",
        parts=present(
            correctness_opening(material),
            _grid(trials, _by_bits(material), set(opened), _difficulties(material))
            if len(trials)
            else Words(text="No exercise was asked yet."),
            *(groups_table(rows, grouping) for grouping, rows in material.groups.items()),
            outcomes_table({row.candidate: row.outcomes for row in material.decision.table.rows}),
            *workspace_tables(material.work, material.work_depths),
            lost_answers(material.record, material.decision.table.rows, trials),
            _trials(material, opened, len(trials)),
        ),
    )


def further_trials(material: Material) -> Iterator[Section]:
    """The trials that the page has no room for, by so many a page."""
    ids = _failed_first(material.decision.table.trials)[MOST_TRIALS:]
    for first in range(0, len(ids), MOST_TRIALS):
        some = sorted(ids[first : first + MOST_TRIALS])
        number = first // MOST_TRIALS + 2
        parts = (_trials(material, some, len(some)),)
        yield Section(anchor=f"trials-{number}", title=f"Trials, page {number}", parts=parts)


def _chosen(trials: pd.DataFrame) -> list[int]:
    """Ids of the trials to open: all of them, or those that failed before those that passed."""
    return sorted(_failed_first(trials)[:MOST_TRIALS])


def _failed_first(trials: pd.DataFrame) -> list[int]:
    failed = trials["outcome"] != Outcome.PASSED.value
    ids = [*trials.loc[failed, "id"], *trials.loc[~failed, "id"]]
    return list(dict.fromkeys(int(one) for one in ids))  # rigs may share answers


def _by_bits(material: Material) -> tuple[str, ...]:
    """The candidates, the levels of a model from most to fewest bits a weight, so that what is lost shows."""
    bits = {row.name: row.weights_facts.get("bits_per_weight") or 0.0 for row in candidate_rows(material.record)}
    models = list(dict.fromkeys(row.model for row in material.decision.table.rows))
    rows = sorted(material.decision.table.rows, key=lambda row: (models.index(row.model), -bits[row.candidate]))
    return tuple(row.candidate for row in rows)


def _difficulties(material: Material) -> dict[str, int]:
    return {exercise.id: exercise.difficulty for exercise in exercise_rows(material.record)}


def _grid(trials: pd.DataFrame, names: tuple[str, ...], opened: set[int], difficulties: Mapping[str, int]) -> Grid:
    cells = outcome_cells(trials)
    failed_first = trials.assign(passed=trials["first_outcome"] == Outcome.PASSED.value).sort_values(
        "passed", kind="stable"
    )
    links: dict[tuple[str, str], int] = {}
    for row in failed_first[failed_first["id"].isin(opened)].to_dict("records"):
        links.setdefault((row["exercise"], row["candidate"]), int(row["id"]))
    # so that structure shows: the easy ones first, of equal difficulty those that most levels solve
    solved = trials["first_outcome"].eq(Outcome.PASSED.value).groupby(trials["exercise"]).mean()
    exercises = sorted(
        {exercise for exercise, _ in cells}, key=lambda one: (difficulties.get(one, 0), -float(solved[one]), one)
    )[:MOST_ROWS]
    used = {Outcome(other) for _, _, other in cells.values()} | {Outcome.PASSED}
    return Grid(
        candidates=names,
        rows=tuple(
            (
                f"{exercise} ({difficulties.get(exercise, '?')})",
                tuple(_square(cells.get((exercise, name)), links.get((exercise, name))) for name in names),
            )
            for exercise in exercises
        ),
        key=tuple((letter, outcome.value) for outcome, letter in LETTERS.items() if outcome in used),
        chart=outcome_grid(trials, list(names)),
    )


def _square(cell: tuple[int, int, str] | None, trial_id: int | None) -> Square:
    if cell is None:
        return Square(letter="", words="not asked", tone="empty", trial_id=None)
    passed, run, other = cell
    tone: Tone = "passed" if passed == run else "some" if passed else "fault" if Outcome(other) in FAULTS else "none"
    words = f"{passed} of {run} passed" + ("" if passed == run else f", else {other}")
    return Square(letter=letter_of(cell), words=words, tone=tone, trial_id=trial_id)


def _trials(material: Material, ids: list[int], total: int) -> Trials:
    """The chosen trials by exercise; what each exercise asks stands there once."""
    by_exercise: dict[str, list[OpenTrial]] = {}
    prompts: dict[str, Passage] = {}
    runs = {run.trial: run for run in workspace_runs(material.record)}
    shown = 0
    for trial_id in ids:
        trial, run = open_trial(material.record, trial_id), runs.get(trial_id)
        exercise = str(trial["exercise_id"])
        first = next((one["exchange"] for one in trial["attempts"] if one["exchange"] is not None), None)
        if first is not None and exercise not in prompts:
            asked = run.turns[0].messages if run is not None and run.turns else first["messages"]
            text = "\n\n".join(message["content"] for message in asked)
            prompts[exercise] = cut("prompt", text, PROMPT_CHARS, ends=True)
        opened = _open(trial, run, with_pictures=shown < MOST_PICTURES)
        shown += len(opened.pictures)
        by_exercise.setdefault(exercise, []).append(opened)
    missing = Passage(title="prompt", text="", length=0)
    return Trials(
        exercises=tuple(
            OpenExercise(id=name, prompt=prompts.get(name, missing), trials=tuple(entries))
            for name, entries in sorted(by_exercise.items())
        ),
        left_out=total - len(ids),
    )


def _work_passages(run: Run, most: int) -> list[Passage]:
    """A run turn by turn, and what it changed."""
    text = "\n\n".join(f"turn {turn.number}\n{turn_text(turn)}" for turn in run.turns)
    return [cut("the run, turn by turn", text, most, ends=True), cut("what it changed", run.diff, most)]


def _open(trial: dict[str, Any], work: Run | None, *, with_pictures: bool) -> OpenTrial:
    attempts = trial["attempts"]
    passed = trial["outcome"] == Outcome.PASSED.value
    pictures = tuple(
        Picture(width=width, data_url="data:image/png;base64," + base64.b64encode(png).decode())
        for width, png in (attempts[-1]["pictures"].items() if attempts and with_pictures else ())
    )
    passages: list[Passage] = []
    lines: list[str] = []
    for attempt in attempts:
        lead = f"attempt {attempt['number']}: " if len(attempts) > 1 else ""
        exchange = attempt["exchange"]
        if work is not None:
            passages += _work_passages(work, FAILED_CHARS if passed else WORK_CHARS)
            lines.append(work_line(work))
        elif exchange is not None:
            messages = exchange["messages"]
            if attempt["number"] != 1:
                passages.append(cut(f"{lead}sent", messages[-1]["content"], ERROR_CHARS))
            if exchange["thinking"]:
                passages.append(cut(f"{lead}thinking", str(exchange["thinking"]), PASSED_CHARS))
            passages.append(cut(f"{lead}reply", str(exchange["reply"]), PASSED_CHARS if passed else FAILED_CHARS))
            lines.append(f"{lead}{exchange['completion_tokens']} tokens, finish reason {exchange['finish_reason']}")
        files = attempt["files"]
        if not passed and work is None:
            passages += [cut(f"{lead}extracted {name}", text, FAILED_CHARS) for name, text in files.items()]
        if attempt["fault"]:
            passages.append(cut(f"{lead}fault", str(attempt["fault"]), ERROR_CHARS))
        checks = attempt["checks"]
        for check in checks:
            word = (
                "passed"
                if check["passed"]
                else str(check["end"] if check["end"] != "finished" else "not all as expected")
            )
            lines.append(
                f"{lead}check {check['name']}: {check['cases_passed']} of {check['cases_total']} cases, {word}"
            )
            if check["detail"]:
                passages.append(cut(f"{lead}what check {check['name']} found", str(check["detail"]), ERROR_CHARS))
    return OpenTrial(
        id=int(trial["id"]),
        title=f"{trial['candidate']}, sample {trial['sample']}",
        outcome=str(trial["outcome"]),
        lines=tuple(lines),
        passages=tuple(passages),
        pictures=pictures,
    )
