"""How closely do an exercise's checks look? Mechanical mutants of its own answer are graded; most must be caught."""

import random
from dataclasses import dataclass

from kettlefield.core.languages import TEXT, language_of_suffix
from kettlefield.core.mutation import make_mutants
from kettlefield.core.outcome import Outcome
from kettlefield.grading.grader import grade_files
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import Exercise

MIN_MADE = 5  # one survivor of fewer says little
MOST = 24  # of one exercise: enough to tell 75 from 95 %, few enough that compiled languages are done in minutes
WANTED_SHARE = 0.75  # caught; below it the checks let too much through. A few mutants always change nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class Caught:
    """What became of an exercise's mutants."""

    made: int  # that build: a mutant that does not even build says nothing of the checks
    caught: int
    survivors: tuple[str, ...]  # what was changed in those that passed

    @property
    def says_little(self) -> bool:
        """Whether there were too few mutants to judge the checks by."""
        return self.made < MIN_MADE

    @property
    def share(self) -> float | None:
        """Caught of those made; None without any."""
        return self.caught / self.made if self.made else None


def try_mutants(exercise: Exercise, isolation: Isolation) -> Caught:
    """Grade mutants of the last turn's own answer, drawn by the exercise's name."""
    if exercise.spec.language == TEXT:
        return Caught(made=0, caught=0, survivors=())
    turn = len(exercise.turns)
    answer = exercise.turns[-1].answer
    made, survivors = 0, []
    for name, text in sorted(answer.items()):
        language = language_of_suffix(name)
        if language is None:
            continue
        rng = random.Random(f"{exercise.id}\0{name}")
        # what the exercise gave is not the model's to get wrong
        end = len(text) - len(exercise.closing)
        within = (len(exercise.opening), end) if exercise.opening is not None else None
        for mutant in make_mutants(text, language, most=max(1, MOST // len(answer)), rng=rng, within=within):
            outcome = grade_files(exercise, {**answer, name: mutant.text}, isolation, turn=turn).outcome
            if outcome in {Outcome.NO_BUILD, Outcome.RIG_FAULT}:
                continue
            made += 1
            if outcome is Outcome.PASSED:
                survivors.append(f"{name} {mutant.change}" if len(answer) > 1 else mutant.change)
    return Caught(made=made, caught=made - len(survivors), survivors=tuple(survivors))
