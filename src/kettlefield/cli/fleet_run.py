"""``kettlefield qualify --fleet``: the same campaign on many machines, watched on stderr."""

import signal
from collections.abc import Sequence
from pathlib import Path

from kettlefield.cli.commands import ExitCode
from kettlefield.core.errors import InputError, RigError
from kettlefield.fleet.placing import Fleet, check_fleet
from kettlefield.fleet.rig_work import Answer, Ended
from kettlefield.fleet.scheduler import connected
from kettlefield.plan.plan import Plan, read_plan
from kettlefield.plan.suite_selection import read_asked
from kettlefield.record.store import Record
from kettlefield.views.terminal import make_console, safe


class FleetProgress:
    """An observer that prints a line for each event, led by the rig's name."""

    def __init__(self) -> None:
        self._console = make_console(stderr=True)

    def joined(self, rig: str, worker: str, answer: Answer) -> None:
        """A worker takes part as a rig."""
        self._say(rig, f"{worker}, isolation {answer.isolation}, {len(answer.candidates)} candidates")
        for line in answer.left_out:
            self._say(rig, f"left out: {line}", "yellow")

    def refused(self, worker: str, reason: str) -> None:
        """A worker does not take part."""
        self._say(worker, f"does not take part: {reason}", "yellow")

    def line(self, rig: str, text: str) -> None:
        """Something that a rig printed."""
        self._say(rig, text, "yellow" if text.startswith("!") else "")

    def ended(self, part: str, code: int, left: int) -> None:
        """A part ended."""
        how = "done" if code == ExitCode.DONE else f"ended with exit code {code}"
        self._say(
            part, f"{how}; {left} {'part' if left == 1 else 'parts'} left", "" if code == ExitCode.DONE else "yellow"
        )

    def _say(self, who: str, text: str, style: str = "") -> None:
        self._console.print(safe(f"{who}: {text}", style))


def run_fleet(
    plan_path: Path,
    address: str,
    *,
    only: str | None = None,
    options: Sequence[str] = (),
    keep_all: bool = False,
    until_decided: bool = False,
    unsafe: bool = False,
) -> ExitCode:
    """Carry a plan out on the rigs of a fleet; the exit code says whether everything could be measured.

    ``options`` are further words of ``qualify``, for every part.

    Raises
    ------
    InputError
        The plan names no rigs, or no worker is one of them.
    RigError
        No scheduler answers, or a part could not be carried out.
    """
    plan: Plan = read_plan(plan_path, keep_all=keep_all)
    plan = plan.until_decided() if until_decided else plan
    check_fleet(plan)
    digest = read_asked(plan).digest
    Record.create_or_open(plan.record).close()  # so that what is wrong with the place is said here, and once
    with connected(address) as client:
        fleet = Fleet(client, plan, FleetProgress(), suite_digest=digest, unsafe=unsafe)
        fleet.look()
        if not fleet.answers:
            raise _empty(address, plan, fleet)
        absent = [rig.name for rig in plan.rigs if rig.name not in fleet.answers]
        for name in absent:
            fleet.observer.line(name, "! no worker is this rig yet; its candidates are not asked in this run")
        signal.signal(signal.SIGTERM, signal.default_int_handler)  # ends the parts on every rig as Ctrl-C does
        left_out = fleet.compare_weights()
        ended = fleet.carry_out(fleet.parts(only, options))
    return _code(ended, [*absent, *left_out])


def _empty(address: str, plan: Plan, fleet: Fleet) -> InputError:
    names = ", ".join(rig.name for rig in plan.rigs)
    if not fleet.refusals:
        hint = 'Start one on each rig: dask worker ADDRESS --nthreads 1 --resources "rig=1".'
        return InputError("has no workers", address, hint)
    worker, reason = next(iter(fleet.refusals.items()))
    return InputError(
        f"none of its {len(fleet.refusals)} workers is one of the rigs {names}", address, f"{worker}: {reason}"
    )


def _code(ended: Sequence[Ended], absent: Sequence[str]) -> ExitCode:
    failed = [one for one in ended if one.code not in {ExitCode.DONE, ExitCode.NOT_MEASURED}]
    if failed:
        first = failed[0]
        hint = "Put it right there and run the same command again; what is done is not done again."
        words = first.last_words.strip().splitlines()
        raise RigError(f"could not be carried out ({words[-1] if words else 'no word of it'})", first.name, hint)
    return ExitCode.NOT_MEASURED if absent or any(one.code for one in ended) else ExitCode.DONE
