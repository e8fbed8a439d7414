"""What a kind of check is: how it is written, whether its prompt is fair to it, how it is carried out."""

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal

import msgspec

from kettlefield.core.outcome import CheckResult
from kettlefield.grading.builds import BuildFault, Built, build_answer
from kettlefield.grading.kept import Kept
from kettlefield.grading.results import Picture
from kettlefield.sandbox.job import Job, RunReport
from kettlefield.sandbox.runner import Sandbox
from kettlefield.suite.check_form import CheckForm
from kettlefield.suite.format import Check, Exercise

# how far an answer is tried: to the end, to the first check that it fails, to the first case
Until = Literal["end", "check", "case"]


class Effort(msgspec.Struct, frozen=True, kw_only=True):
    """How far an answer is tried: less is enough where only its outcome is asked for."""

    until: Until = "end"
    first: Mapping[str, int] = msgspec.field(
        default_factory=dict
    )  # checks tried first; of each the first case, from 1; 0: any
    sanitised: bool = True  # run with the sanitiser too, where a check says so


WHOLE = Effort()


class Bench(msgspec.Struct, frozen=True, kw_only=True):
    """One answer with all that its checks need."""

    exercise: Exercise
    checks: tuple[Check, ...]  # of the turn that is graded
    files: dict[str, str]
    main: str
    answer: Built | None  # None: prose, which is read and not run
    own: Callable[[Check], Built]  # the exercise's own answer of a check's turn
    sandbox: Sandbox
    kept: Kept  # over all answers
    effort: Effort = WHOLE
    seen: dict[str, Any] = msgspec.field(default_factory=dict)  # what one check left for the next, by the module's name
    pictures: list[Picture] = msgspec.field(default_factory=list)

    @property
    def built(self) -> Built:
        """The answer, ready to run."""
        if self.answer is None:
            raise TypeError("prose is read, not run")
        return self.answer

    def build_again(self, texts: dict[str, str], *, sanitised: bool = False) -> Built | BuildFault:
        """The answer's files, or some in their place, made ready to run as the answer was."""
        built = self.built
        return build_answer(
            built.toolchain, texts, built.main, self.sandbox, self.kept, built.packages, sanitised=sanitised
        )

    def run(self, job: Job) -> RunReport:
        """Run a job in isolation."""
        return self.sandbox.run(job)


class CheckKind(CheckForm, frozen=True, kw_only=True):
    """One kind of check; a module of this package or of a third party offers it as a global."""

    run: Callable[[Bench, Any], CheckResult]
    unfair: Callable[[Exercise, Any, str], Iterable[str]] = lambda *_: ()  # what the prompt does not say; the prompt
    by_hand: Callable[[tuple[Any, ...]], int] = lambda _: 0  # cases that were worked from the prompt by hand
    settle: Callable[[Bench, Any], tuple[Any, ...]] | None = None  # a variant's cases, from its own answer
    needs_build: bool = True  # it runs the answer's main file; False: it takes the files as they are
    only_right: bool = False  # it says nothing of an answer that fails a check before it, and is not carried out then
    runs: Callable[[CheckResult], int] | None = None  # how many runs it took; None: it takes long by design
