"""A whole suite vetted: every exercise as written, and those that vary with further seeds."""

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import msgspec

from kettlefield.core.extraction.syntax import ANY, PAGE
from kettlefield.grading.fairness import near_duplicates, unfinished
from kettlefield.grading.grader import Grader
from kettlefield.grading.vetting import CaughtAt, Vetted, vet_exercise
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.suite.format import Exercise, Suite
from kettlefield.suite.variants import BASE_SEED, draw_values

SEED_STRIDE = 5  # of the seeds that exercises are vetted with for which each seed shows little or costs much


def vet_suite(
    load: Callable[[int], Suite],
    grader: Grader,
    *,
    seeds: int = 1,
    workers: int,
    mutants: bool = False,
    on_done: Callable[[int, int, str], None] = lambda *_: None,
) -> tuple[Vetted, ...]:
    """Vet every exercise of a suite.

    Parameters
    ----------
    load : callable
        Loads the suite with a seed.
    grader : Grader
        Grades answers and decoys.
    seeds : int
        With how many seeds exercises that vary are vetted, the suite as written among them.
    workers : int
        Exercises vetted at once, at least 1.
    mutants : bool
        Try mechanical mutants of the own answers too.
    on_done : callable
        Told how many are done, of how many, and which was the last.

    Returns
    -------
    tuple of Vetted
        One an exercise; the faults of further seeds name their seed.
    """
    suite = load(BASE_SEED)
    same = near_duplicates(suite.exercises)
    sisters = (
        (seed, exercise) for seed in range(BASE_SEED + 1, BASE_SEED + seeds) for exercise in load(seed).exercises
    )
    # what takes longest first, so that no processor waits at the end; what a seed found hints at the next one's cases
    wanted = [(BASE_SEED, exercise) for exercise in sorted(suite.exercises, key=_shortness)]
    wanted += _different([(seed, exercise) for seed, exercise in sisters if is_vetted_with(exercise, seed)])
    caught_at: dict[str, CaughtAt] = {exercise.id: {} for exercise in suite.exercises}
    done, lock = [0], threading.Lock()

    def vet(job: tuple[int, Exercise]) -> tuple[int, Vetted]:
        seed, exercise = job
        is_base = seed == BASE_SEED
        vetted = vet_exercise(
            exercise,
            grader,
            mutants=mutants and is_base,
            caught_at=caught_at[exercise.id],
            # where rules vary they confirm what is expected; other values alone seldom part them from the answer
            with_also=is_base or exercise.spec.varies == "rules" or _is_fifth(seed),
        )
        with lock:
            done[0] += 1
            on_done(done[0], len(wanted), exercise.id)
        return seed, vetted

    with ThreadPoolExecutor(workers) as pool:
        results = list(pool.map(vet, wanted))
    first = {vetted.exercise.id: vetted for seed, vetted in results if seed == BASE_SEED}
    faults = {name: list(vetted.faults) for name, vetted in first.items()}
    for name, words in same.items():
        faults[name] += [words] if not unfinished(first[name].exercise) else []
    for seed, vetted in results:
        if seed != BASE_SEED:
            faults[vetted.exercise.id] += [f"seed {seed}: {fault}" for fault in vetted.faults]
    return tuple(
        msgspec.structs.replace(first[exercise.id], faults=tuple(faults[exercise.id])) for exercise in suite.exercises
    )


def _different(drawn: list[tuple[int, Exercise]]) -> list[tuple[int, Exercise]]:
    """Variants with the seeds that drew them, without those that show nothing that an earlier seed did not.

    Of exercises that vary in their rules those are kept whose rules no earlier seed drew together, and every fifth
    seed for its values; of all those that draw other values than any before. Of compiled ones, whose decoys take long
    to build, those are kept that draw a rule which no earlier seed drew.
    """
    seen: set[tuple[object, ...]] = set()
    kept = []
    for seed, exercise in drawn:
        vary = exercise.spec.vary
        values = draw_values(vary, exercise.id, seed)
        ways = [(name, values[name]) for name in sorted(vary) if vary[name].ways]
        # the rules as written were drawn by the first seed
        seen |= {(exercise.id, "way", name, str(vary[name].base)) for name, _ in ways}
        single = {(exercise.id, "way", *way) for way in ways}
        rules = {(exercise.id, *ways)}
        whole = (exercise.id, *sorted(values.items()))
        wanted = single if _is_built(exercise) else rules
        is_new = whole not in seen and (
            exercise.spec.varies == "values" or not wanted <= seen or (_is_fifth(seed) and not _is_built(exercise))
        )
        seen |= single | rules | {whole}
        if is_new:
            kept.append((seed, exercise))
    return kept


def _is_built(exercise: Exercise) -> bool:
    """Whether its answers are compiled."""
    language = exercise.spec.language if exercise.spec.language != ANY else LANGUAGES.of_suffix(exercise.spec.file)
    recipe = LANGUAGES[language].recipe if language is not None and language in LANGUAGES else None
    return recipe is not None and recipe.build is not None and recipe.keeps is not None


def _is_fifth(seed: int) -> bool:
    return seed % SEED_STRIDE == 1


def _shortness(exercise: Exercise) -> int:
    """Pages wait for a browser most of the time, measuring cost takes long by design."""
    return 0 if exercise.spec.language == PAGE else 1 if exercise.spec.kind == "speed" else 2


def is_vetted_with(exercise: Exercise, seed: int) -> bool:
    """Whether an exercise is vetted with a seed.

    One that does not vary is vetted once. One in which only words vary, or that is compiled, is vetted with every
    fifth seed: another word moves no bound, and building decoys takes most of the time. Where rules vary a seed may
    draw some that no other has.
    """
    if seed == BASE_SEED:
        return True
    has_numbers = any(isinstance(one.base, int) for one in exercise.spec.vary.values())
    may_tell = exercise.spec.varies == "rules" or (has_numbers and not _is_built(exercise))
    return exercise.is_variant and (may_tell or _is_fifth(seed))
