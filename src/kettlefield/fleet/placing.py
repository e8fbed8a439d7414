"""A campaign on a fleet: which rig does what, placed by Dask's distributed scheduler; the record is in a database."""

import contextlib
import fnmatch
import glob
import time
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Protocol

import msgspec

from kettlefield import __version__
from kettlefield.core.errors import InputError
from kettlefield.fleet import rig_work
from kettlefield.fleet.rig_work import Answer, Ended, Line, OwnWeights, Part, Question
from kettlefield.fleet.scheduler import EXCLUSIVE, GRADER, ask_workers, gone, workers_of
from kettlefield.plan.plan import Plan
from kettlefield.record.place import FilePlace

LOOK_EVERY_S = 0.5  # for workers that came, and parts that ended
STOP_WITHIN_S = 30.0
_MOST_TRIES = 5  # of a part whose worker or process dies


class FleetObserver(Protocol):
    """A watcher of a fleet."""

    def joined(self, rig: str, worker: str, answer: Answer) -> None:
        """A worker takes part as a rig."""

    def refused(self, worker: str, reason: str) -> None:
        """A worker does not take part."""

    def line(self, rig: str, text: str) -> None:
        """Something that a rig printed."""

    def ended(self, part: str, code: int, left: int) -> None:
        """A part ended; so many are left."""


class Fleet:
    """The workers of one campaign, and the parts that they are given."""

    def __init__(self, client: Any, plan: Plan, observer: FleetObserver, *, suite_digest: str, unsafe: bool) -> None:
        self._client, self._plan, self.observer = client, plan, observer
        self._suite_digest, self._unsafe = suite_digest, unsafe
        self._graders: list[str] = []  # workers that only grade
        self._there: dict[str, str] = {}  # worker that is there -> its rig; empty: it does not take part
        self.answers: dict[str, Answer] = {}  # rig -> what its first worker said
        self.refusals: dict[str, str] = {}  # worker -> why it does not take part

    def look(self) -> None:
        """See which workers there are, and ask those that came since the last look what they are.

        Raises
        ------
        RigError
            The scheduler is gone.
        """
        if self._client.status != "running":
            raise gone(self._client)
        workers = workers_of(self._client)
        resources = {address: tuple(facts.get("resources", {})) for address, facts in workers.items()}
        self._there = {address: rig for address, rig in self._there.items() if address in workers}
        self._graders = [one for one, has in resources.items() if GRADER in has and EXCLUSIVE not in has]
        # what only grades is asked by the rigs themselves, whose tools it must share
        came = [one for one in workers if one not in self._there and one not in self._graders]
        for address, answer in self._ask({address: resources[address] for address in came}).items():
            self._there[address] = self._join(address, answer, resources[address])

    def _join(self, address: str, answer: Answer, labels: tuple[str, ...]) -> str:
        """The rig that a worker is; empty: it does not take part."""
        reason = self._why_not(answer, labels)
        if reason:
            self.refusals[address] = reason
            self.observer.refused(address, reason)
            return ""
        self.answers.setdefault(answer.rig, answer)
        self.observer.joined(answer.rig, address, answer)
        return answer.rig

    def _ask(self, labels: Mapping[str, tuple[str, ...]]) -> dict[str, Answer]:
        """What workers say of their machines; all are asked at once, since each takes seconds."""
        question = Question(plan=self._plan.text, labels=dict(labels), unsafe=self._unsafe)
        said = ask_workers(self._client, labels, rig_work.look, msgspec.json.encode(question))
        return {
            address: msgspec.json.decode(words, type=Answer)
            if isinstance(words, bytes)
            else Answer(version="?", fault=f"it cannot run Kettlefield ({words})")
            for address, words in said.items()
        }

    def _why_not(self, answer: Answer, labels: Sequence[str]) -> str:
        if EXCLUSIVE not in labels:
            return f'it was started without --resources "{EXCLUSIVE}=1", which keeps a rig to one part at a time'
        if answer.fault:
            return answer.fault
        if answer.version != __version__:
            return f"it has Kettlefield {answer.version}, here is {__version__}: install the same on both"
        if answer.suite_digest != self._suite_digest:
            return "it has another state of the suite: copy the same there"
        return ""

    def compare_weights(self) -> list[str]:
        """Have every rig read its weights, and leave out what is another file than on a rig before it in the plan.

        Returns
        -------
        list of str
            What was left out, a line each.

        Raises
        ------
        RigError
            The scheduler is gone.
        """
        asked = {rig: self._client.submit(
            rig_work.digests,
            msgspec.json.encode(OwnWeights(plan=self._plan.text, rig=rig)),
            workers=[next(worker for worker, own in self._there.items() if own == rig)],
            resources={EXCLUSIVE: 1},  # reading much would disturb what another campaign times there
            key=f"weights-{rig}-{time.time_ns()}", pure=False,
        ) for rig in self.answers}  # fmt: skip
        while not all(future.done() for future in asked.values()) and self._are_there(asked):
            time.sleep(LOOK_EVERY_S)
        kept: dict[str, tuple[str, str]] = {}  # candidate, whatever its rig -> its first rig and the digest there
        left_out: list[str] = []
        for rig in (one.name for one in self._plan.rigs if one.name in asked):
            if asked[rig].status != "finished":
                continue  # its parts look again, before they measure
            for name, digest in msgspec.json.decode(asked[rig].result(), type=dict[str, str]).items():
                first, same = kept.setdefault(name.removesuffix(f" on {rig}"), (rig, digest))
                if digest != same:
                    left_out.append(f"{name}: its weights have SHA-256 {digest[:12]}, on {first} {same[:12]}")
                    answer = self.answers[rig]
                    others = tuple(one for one in answer.candidates if one != name)
                    self.answers[rig] = msgspec.structs.replace(answer, candidates=others)
                    self.observer.line(rig, f"! left out: {left_out[-1]}; copy the same file to both")
        return left_out

    def _are_there(self, rigs: Iterable[str]) -> bool:
        self.look()
        return set(rigs) <= set(self._there.values())

    def parts(self, only: str | None, options: Sequence[str]) -> list[Part]:
        """The parts of the campaign on the rigs that are there: a candidate each, or a model where levels take turns.

        Raises
        ------
        InputError
            The pattern matches no candidate.
        """
        together = self._plan.campaign.until == "decided"
        parts: dict[str, Part] = {}
        for rig, answer in self.answers.items():
            for name in answer.candidates:
                if only is not None and not fnmatch.fnmatchcase(name, only):
                    continue
                # levels that take turns are compared with their reference after each block: one process asks them
                pattern = f"{glob.escape(name.partition('@')[0])}@* on {rig}" if together else glob.escape(name)
                part = Part(name=pattern, plan=self._plan.text, rig=rig, only=pattern, options=tuple(options))
                parts.setdefault(part.name, part)
        if only is not None and not parts:
            names = ", ".join(name for answer in self.answers.values() for name in answer.candidates)
            raise InputError(f'"{only}" matches no candidate', "--only", f"Known on the rigs that are there: {names}.")
        return list(parts.values())

    def carry_out(self, parts: Sequence[Part]) -> list[Ended]:
        """Give every part to its rig, one at a time on each, and wait for all.

        A part whose worker dies waits for another worker of its rig and resumes from the record. Ctrl-C stops all.

        Raises
        ------
        RigError
            The scheduler is gone.
        """
        self._client.subscribe_topic(rig_work.TOPIC, self._heard)
        waiting, ended = list(parts), list[Ended]()
        running: dict[str, tuple[Part, Any]] = {}  # worker -> what it does
        tries = Counter[str]()
        try:
            while waiting or running:
                self.look()
                for worker, (part, future) in list(running.items()):
                    if not future.done() and worker in self._there:
                        continue
                    del running[worker]
                    end = self._end_of(part, future)
                    tries[part.name] += 1
                    if end is None and tries[part.name] < _MOST_TRIES:
                        self.observer.line(part.rig, f"! {part.name}: its worker is gone; another one resumes it")
                        waiting.insert(0, part)
                        continue
                    ended.append(end or Ended(name=part.name, code=3, last_words="its workers died again and again"))
                    self.observer.ended(part.name, ended[-1].code, len(waiting) + len(running))
                self._place(waiting, running)
                time.sleep(LOOK_EVERY_S)
        except KeyboardInterrupt:
            self._stop([future for _, future in running.values()])
            raise
        return ended

    def _place(self, waiting: list[Part], running: dict[str, tuple[Part, Any]]) -> None:
        """Give what waits to rigs that do nothing."""
        busy = {part.rig for part, _ in running.values()}
        for worker, rig in self._there.items():
            part = next((one for one in waiting if one.rig == rig), None)
            if part is None or rig in busy:
                continue
            waiting.remove(part)
            busy.add(rig)
            # the resource keeps another campaign's part away from a rig that is timing
            part = msgspec.structs.replace(part, graders=bool(self._graders))
            running[worker] = (
                part,
                self._client.submit(
                    rig_work.carry_out,
                    msgspec.json.encode(part),
                    key=f"{part.name}-{time.time_ns()}",
                    workers=[worker],
                    resources={EXCLUSIVE: 1},
                    pure=False,
                ),
            )

    def _end_of(self, part: Part, future: Any) -> Ended | None:
        """How a part ended; None: its worker or its process died."""
        if future.status == "finished":
            return msgspec.json.decode(future.result(), type=Ended)
        with contextlib.suppress(Exception):  # it is gone already
            future.cancel()
        return None

    def _heard(self, event: tuple[float, Any]) -> None:
        with contextlib.suppress(msgspec.DecodeError, TypeError):
            line = msgspec.json.decode(event[1], type=Line)
            self.observer.line(line.rig, line.text)

    def _stop(self, futures: Sequence[Any]) -> None:
        """Stop the servers on every rig; what is finished is in the record."""
        with contextlib.suppress(Exception):  # whatever is gone is stopped
            self._client.run(rig_work.stop, on_error="ignore")
            until_s = time.monotonic() + STOP_WITHIN_S
            while not all(future.done() for future in futures) and time.monotonic() < until_s:
                time.sleep(LOOK_EVERY_S)


def check_fleet(plan: Plan) -> None:
    """Refuse a plan that a fleet cannot carry out.

    Raises
    ------
    InputError
        It names no rigs, or its record is a file.
    """
    if not plan.rigs:
        raise InputError(
            "names no rigs", f"{plan.path} [[rig]]", "A fleet needs to know which machines are asked about."
        )
    if isinstance(plan.record, FilePlace):
        hint = 'Write record = "postgresql://USER@HOST/DATABASE": several machines cannot write one file.'
        raise InputError("is a file", f"{plan.path} record", hint)
