"""Suites: what they hold, what they can show, and what vetting found."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

from kettlefield.core.as_dict import as_dict
from kettlefield.grading.vetting import Vetted
from kettlefield.suite.format import SELECTIONS, Suite, is_in
from kettlefield.suite.selection_power import SuitePower
from kettlefield.views.table import Align, Column, Table, View, Words, count, duration, present, table, words


def suite_view(suite: Suite, power: SuitePower | None) -> View:
    """What a suite holds, and what it can show where that was asked for."""
    counts = (
        ("kinds", Counter(exercise.spec.kind for exercise in suite.exercises)),
        ("languages", Counter(exercise.spec.language for exercise in suite.exercises)),
        ("voices", Counter(exercise.spec.voice for exercise in suite.exercises)),
        ("variants", Counter(f"of {one.spec.varies}" for one in suite.exercises if one.spec.varies)),
    )
    sizes = {name: sum(is_in(one.spec, name) for one in suite.exercises) for name in SELECTIONS[:-1]}
    narrower = ", ".join(f"{many} in the {name} selection" for name, many in sizes.items())
    return View(
        title="",
        simulated=False,
        parts=present(
            exercises_table(suite),
            *(
                Words(text=f"{name}: " + ", ".join(f"{key} {many}" for key, many in values.most_common()))
                for name, values in counts
                if values
            ),
            Words(text=f"{suite.name}: {len(suite.exercises)} exercises, {narrower}"),
            Words(text=f"digest {suite.digest}", tone="small"),
            *(power_parts(power) if power is not None else ()),
        ),
        document={
            "suite": suite.name,
            "digest": suite.digest,
            "exercises": [
                {
                    "id": exercise.id,
                    "kind": exercise.spec.kind,
                    "language": exercise.spec.language,
                    "difficulty": exercise.spec.difficulty,
                    "title": exercise.spec.title,
                    "topics": list(exercise.spec.topics),
                    "tests": exercise.spec.tests,
                    "selection": exercise.spec.selection,
                    "voice": exercise.spec.voice,
                    "varies": exercise.spec.varies,
                }
                for exercise in suite.exercises
            ],
            "power": as_dict(power) if power is not None else None,
        },
    )


def exercises_table(suite: Suite) -> Table | None:
    """One row an exercise."""
    ordered = sorted(suite.exercises, key=lambda e: (e.spec.kind, e.spec.language, e.id))
    return table(
        "Exercises",
        [
            *(words(name) for name in ("exercise", "kind", "language")),
            count("difficulty"),
            *(words(name) for name in ("selection", "varies", "title")),
        ],
        [
            (
                *(
                    one.id,
                    one.spec.kind,
                    one.spec.language,
                    one.spec.difficulty,
                    "" if one.spec.selection == "all" else one.spec.selection,
                ),
                *(one.spec.varies or "", one.spec.title),
            )
            for one in ordered
        ],
    )


def power_parts(power: SuitePower) -> tuple[Table, ...]:
    """What each selection shows, and what each drop needs."""
    sure = (
        f"Shown in 80 of 100 campaigns at one-sided 95 % when {power.discordant:.0%} of the exercises are solved by "
        "just one of the two levels (Connor 1987; samples and variants of one exercise counted as half correlated)."
    )
    samples = "1 sample" if power.samples == 1 else f"{power.samples} samples"
    asked = (
        f"At {power.tokens_per_s:g} tokens/s and {samples} of each exercise, answers as long as the suite's own; "
        "reasoning takes many times as long."
    )
    return present(
        table(
            "What the suite can show",
            [
                words("selection"),
                count("exercises"),
                Column(name="minimum detectable drop", align=Align.RIGHT, show="{:.0%}".format),
                Column(name="share of the whole", align=Align.RIGHT, show="{:.0%}".format),
                duration("generating"),
            ],
            [
                (
                    *(row.selection, row.exercises),
                    row.smallest_drop if row.smallest_drop is not None else f"more than {power.discordant:.0%}",
                    *(row.work_share, row.seconds),
                )
                for row in power.selections
            ],
            note=f"A drop in pass rate from one level to another. {sure}",
        ),
        table(
            "What a drop needs",
            [
                Column(name="drop", align=Align.RIGHT, show="{:.0%}".format),
                *(count("exercises"), count("seeds")),
                duration("generating"),
            ],
            [(row.drop, row.exercises, row.seeds, row.seconds) for row in power.drops],
            note="Each seed draws the exercises that vary once more; the first is the suite as written. Without a "
            f"number: seeds alone do not show it, variants are too similar; more exercises do. {asked}",
        ),
    )


def vetting_view(suite: Suite, vetted: Sequence[Vetted], *, isolation: str) -> View:
    """What vetting found."""
    faulty = sum(bool(one.faults) for one in vetted)
    skipped = sum(bool(one.not_vetted) for one in vetted)
    caught = [one.caught for one in vetted if one.caught is not None]
    made = sum(one.made for one in caught)
    killed = sum(one.caught for one in caught)
    return View(
        title="",
        simulated=False,
        parts=present(
            findings_table(vetted),
            Words(
                text=f"{suite.name}: {len(vetted) - faulty - skipped} of {len(vetted)} exercises sound, {faulty} with "
                f"faults, {skipped} not vetted here"
            ),
            Words(text=f"checks catch {killed} of {made} mutants ({killed / max(1, made):.0%})") if caught else None,
            Words(text=f"digest {suite.digest}; isolation: {isolation}", tone="small"),
        ),
        document={
            "ok": not faulty,
            "digest": suite.digest,
            "exercises": [_document(one) for one in vetted],
        },
    )


def findings_table(vetted: Sequence[Vetted]) -> Table | None:
    """One row an exercise."""
    with_mutants = any(one.caught is not None for one in vetted)
    return table(
        "Vetting",
        [
            *(words(name) for name in ("exercise", "kind", "language")),
            *(count(name) for name in ("difficulty", "cases", "decoys")),
            *((Column(name="mutants caught", align=Align.RIGHT),) if with_mutants else ()),
            words("finding"),
        ],
        [
            (
                *(one.exercise.id, one.exercise.spec.kind, one.exercise.spec.language, one.exercise.spec.difficulty),
                _cases(one),
                len(one.exercise.spec.decoy),
                *((_mutants(one),) if with_mutants else ()),
                "; ".join(one.faults) or one.not_vetted or one.warning or "sound",
            )
            for one in vetted
        ],
    )


def _cases(one: Vetted) -> int:
    return sum(map(len, one.exercise.cases.values()))


def _mutants(one: Vetted) -> str | None:
    caught = one.caught
    return None if caught is None or caught.share is None else f"{caught.caught} of {caught.made} ({caught.share:.0%})"


def _document(one: Vetted) -> dict[str, Any]:
    return {
        "id": one.exercise.id,
        "kind": one.exercise.spec.kind,
        "language": one.exercise.spec.language,
        "ok": not one.faults and not one.not_vetted,
        "faults": list(one.faults),
        "not_vetted": one.not_vetted,
        "warning": one.warning,
        "mutants": None
        if one.caught is None
        else {"made": one.caught.made, "caught": one.caught.caught, "survivors": list(one.caught.survivors)},
    }
