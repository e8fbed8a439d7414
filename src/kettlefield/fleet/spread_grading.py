"""Grading that is spread over workers of a fleet: those labelled ``grader`` grade replies, so that a rig need not."""

import asyncio
import contextlib
import threading
import uuid
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import msgspec

from kettlefield import __version__
from kettlefield.campaign import readiness
from kettlefield.campaign.readiness import grading_tools, machine_id
from kettlefield.core.outcome import Outcome
from kettlefield.fleet import grading_work
from kettlefield.fleet.grading_work import Graded, GraderAnswer, Reply
from kettlefield.fleet.scheduler import EXCLUSIVE, GRADER, ask_workers, connected, workers_of
from kettlefield.grading.grader import Grade, Grader
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.suite.format import Exercise

LOOK_EVERY_S = 2.0  # for graders that came or went
MOST_WAITING = 32  # replies that wait for a grade at once
_WAIT_S = 1.0  # for a grade, before it is seen whether anybody is left to give it


class SpreadGrader(Grader):
    """Grades replies on a fleet's graders; here where there is none, or where one fails.

    A grader takes part when it is the same Kettlefield with the same suite, toolchains, packages and isolation: who
    graded a reply makes no difference then. It is never on the machine of a rig, whose timing it would disturb; rigs
    that are simulated time nothing.

    Parameters
    ----------
    own : Grader
        Grades what is not spread: what workspaces run, and replies that no grader takes.
    client : distributed.Client
        Of the scheduler that has the graders.
    plan : Plan
        Carried out on this rig.
    asked : Asked
        What is asked.
    say : callable
        Is told which workers take part as graders, and why others do not.
    """

    def __init__(self, own: Grader, client: Any, plan: Plan, asked: Asked, say: Callable[[str], None]) -> None:
        super().__init__(own.isolation)
        self.kept = own.kept
        self._client, self._say = client, say
        self._graded = Graded(suites=plan.suites, suite_digest=asked.digest, unsafe=own.isolation.name == "none")
        self._tools = grading_tools(asked)
        self._times_nothing = plan.rig.accelerator.startswith("simulated:")
        self._known: dict[str, str] = {}  # worker -> why it does not take part; empty: it does
        self._asked: dict[str, Any] = {}  # worker that was asked -> its answer to come
        self._ended = threading.Event()
        # beside the work: a grader that makes itself ready takes minutes the first time
        self._looking = threading.Thread(target=self._keep_looking, name="graders", daemon=True)
        self._looking.start()

    def close(self) -> None:
        """No longer look for graders."""
        self._ended.set()

    @property
    def at_once(self) -> int:
        """Replies that may be under way: most of them only wait for a grader."""
        return MOST_WAITING

    @property
    def graders(self) -> list[str]:
        """The workers that take part now."""
        return [worker for worker, reason in dict(self._known).items() if not reason]

    def grade_reply(
        self,
        exercise: Exercise,
        reply: str,
        *,
        cap_hit: bool,
        turn: int = 1,
        earlier: dict[str, str] | None = None,
        continued: bool = False,
    ) -> Grade:
        """As a grader of its own does; whoever does it."""
        wanted = Reply(of=self._graded, exercise=exercise.id, text=reply, cap_hit=cap_hit, turn=turn,
                       earlier=earlier, continued=continued)  # fmt: skip
        found = self._elsewhere(wanted)
        if found is not None:
            return found
        return super().grade_reply(exercise, reply, cap_hit=cap_hit, turn=turn, earlier=earlier, continued=continued)

    def _elsewhere(self, wanted: Reply) -> Grade | None:
        """A grader's grade; None: nobody could give one."""
        graders = self.graders
        if not graders:
            return None
        future = None
        try:
            future = self._client.submit(
                grading_work.grade,
                msgspec.msgpack.encode(wanted),
                workers=graders,
                resources={GRADER: 1},
                key=f"grade-{uuid.uuid4()}",
                pure=False,
            )
            done = threading.Event()
            future.add_done_callback(lambda _: done.set())
            while not done.wait(_WAIT_S):
                if not set(graders) & set(self.graders):
                    future.cancel()
                    return None
            grade = grading_work.decode_grade(future.result())
        except (Exception, asyncio.CancelledError) as err:
            # whatever a grader, the network or the scheduler does, the reply is graded
            self._say(f"a grader failed, so its reply is graded here: {type(err).__name__}: {err}")
            with contextlib.suppress(Exception):
                if future is not None:
                    future.cancel()
            return None
        if grade.outcome is Outcome.RIG_FAULT:
            self._say(f"grader {grade.by} has a fault, so its reply is graded here: {grade.fault}")
            return None
        return grade

    def _keep_looking(self) -> None:
        while not self._ended.is_set():
            try:
                self._look()
            except (Exception, asyncio.CancelledError):
                self._known, self._asked = {}, {}  # the scheduler is gone: replies are graded here until it is back
            self._ended.wait(LOOK_EVERY_S)

    def _look(self) -> None:
        """See which graders there are; one that came is asked what it grades with, which may take it minutes."""
        workers = workers_of(self._client)
        resources = {worker: facts.get("resources", {}) for worker, facts in workers.items()}
        self._known = {worker: reason for worker, reason in self._known.items() if worker in workers}
        self._asked = {worker: asked for worker, asked in self._asked.items() if worker in workers}
        for worker, has in resources.items():
            if GRADER not in has or worker in self._known or worker in self._asked:
                continue
            if EXCLUSIVE in has:
                self._settle(worker, workers[worker]["name"], "it is a rig, and times")
            else:
                self._asked[worker] = self._ask(worker)
        for worker, asked in list(self._asked.items()):
            if asked.done():
                del self._asked[worker]
                self._settle(worker, workers[worker]["name"], self._why_not(asked, workers))

    def _settle(self, worker: str, name: str, reason: str) -> None:
        self._known[worker] = reason
        self._say(f"{name} does not grade: {reason}" if reason else f"{name} grades replies of this rig")

    def _ask(self, worker: str) -> Any:
        # as a task, not beside its work: it may take long, and a worker that does not answer meanwhile counts as dead
        return self._client.submit(
            grading_work.look_as_grader, msgspec.msgpack.encode(self._graded), workers=[worker],
            key=f"grader-{uuid.uuid4()}", pure=False,
        )  # fmt: skip

    def _why_not(self, asked: Any, workers: Mapping[str, Mapping[str, Any]]) -> str:
        try:
            answer = msgspec.msgpack.decode(asked.result(), type=GraderAnswer)
        except Exception as err:
            return f"it cannot run Kettlefield ({type(err).__name__}: {err})"
        if answer.fault:
            return answer.fault
        if answer.version != __version__:
            return f"it has Kettlefield {answer.version}, here is {__version__}"
        if answer.isolation != self.isolation.name:
            return f"its isolation is {answer.isolation}, here it is {self.isolation.name}"
        differing = sorted(
            name for name in self._tools.keys() | answer.tools if self._tools.get(name) != answer.tools.get(name)
        )
        if differing:
            name = differing[0]
            return f"its {name} is {answer.tools.get(name, 'missing')}, here it is {self._tools.get(name, 'missing')}"
        if not self._times_nothing and answer.machine and answer.machine in self._machines_of_rigs(workers):
            return "it is on the machine of a rig, whose timing it would disturb"
        return ""

    def _machines_of_rigs(self, workers: Mapping[str, Mapping[str, Any]]) -> set[str]:
        rigs = [worker for worker, facts in workers.items() if EXCLUSIVE in facts.get("resources", {})]
        said = ask_workers(self._client, rigs, readiness.machine_id)
        return {machine_id()} | {one for one in said.values() if isinstance(one, str)}


@contextlib.contextmanager
def spread_over(
    address: str | None, own: Grader, plan: Plan, asked: Asked, say: Callable[[str], None]
) -> Iterator[Grader]:
    """A grader that spreads over the graders of a scheduler; without an address, the grader itself.

    Raises
    ------
    InputError
        Dask is not installed, or the address cannot be one.
    RigError
        Nothing answers there.
    """
    if address is None:
        yield own
        return
    with connected(address) as client:
        spread = SpreadGrader(own, client, plan, asked, say)
        try:
            yield spread
        finally:
            spread.close()
