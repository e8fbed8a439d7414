"""``kettlefield qualify``: run a plan's campaign, or resume it."""

import argparse
import asyncio
import contextlib
import logging
import signal
import sys
from collections.abc import Callable, Coroutine, Sequence
from pathlib import Path
from typing import Any, TypeVar

import uvloop

from kettlefield.campaign.conductor import Conductor
from kettlefield.campaign.filling import filler_of
from kettlefield.campaign.fixed_texts import fixed_texts
from kettlefield.campaign.forecast import forecast
from kettlefield.campaign.measuring import PARTS, again_of
from kettlefield.campaign.outlook import outlooks, over_in
from kettlefield.campaign.readiness import check_extensions, prepare_grading
from kettlefield.campaign.work import Scope
from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.fleet_run import run_fleet
from kettlefield.cli.progress import CampaignProgress
from kettlefield.core.errors import InputError
from kettlefield.core.outcome import FAULTS
from kettlefield.core.statistics.power import effective_pairs, smallest_drop
from kettlefield.fleet.spread_grading import spread_over
from kettlefield.grading.grader import Grader
from kettlefield.plan.own_rig import on_rig, own_rig
from kettlefield.plan.plan import Plan, read_plan, select
from kettlefield.plan.suite_selection import read_asked
from kettlefield.record.place import Place, read_place
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import open_accelerator
from kettlefield.sandbox.isolation import Isolation, NoIsolation
from kettlefield.sandbox.runner import available_isolation
from kettlefield.suite.selection_power import DISCORDANT
from kettlefield.views.forecast_view import forecast_view
from kettlefield.views.overview_view import overview_view
from kettlefield.views.terminal import show

T = TypeVar("T")


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "qualify",
        help=COMMANDS["qualify"],
        description="Start each candidate's server, measure speed and memory, put the suite to it, grade the answers\n"
        "in isolation and keep everything in the plan's record. Run again, it resumes.",
        epilog="examples:\n  kettlefield qualify plan.toml --dry-run\n  kettlefield qualify plan.toml\n"
        "  kettlefield qualify plan.toml --only 'marram-1.2b@*'\n"
        "  kettlefield qualify plan.toml --retry-faults\n"
        "  kettlefield qualify plan.toml --again speed --only 'marram-1.2b@q4_k_m'",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("plan", type=Path, help="the plan, a TOML file")
    parser.add_argument("--only", metavar="PATTERN", help="only candidates or exercises that match, e.g. '*@q4_k_m'")
    parser.add_argument(
        "--rig", metavar="NAME", help="which of the plan's [[rig]] tables this machine is, where it cannot be told"
    )
    parser.add_argument(
        "--fleet",
        metavar="ADDRESS",
        help="let the workers of this Dask scheduler do it, such as tcp://quay-1:8786: each rig its own candidates",
    )
    parser.add_argument(
        "--graders",
        metavar="ADDRESS",
        help="let workers of this Dask scheduler that are labelled grader grade the answers, so that the rig need not",
    )
    parser.add_argument(
        "--part",
        choices=("speed", "memory", "answers"),
        action="append",
        metavar="PART",
        help="only this part: speed, memory or answers; may be given twice",
    )
    parser.add_argument(
        "--again",
        action="append",
        metavar="PART",
        help="measure this again: speed, memory, or one procedure such as latency or depth; what it supersedes\n"
        "stays in the record, marked. Answers are not asked again: that would be choosing among results",
    )
    parser.add_argument(
        "--retry-faults", action="store_true", help="run trials again that ended in a fault of server or rig"
    )
    parser.add_argument(
        "--until-decided",
        action="store_true",
        help='stop each candidate as soon as its criteria are decided, as until = "decided" in [campaign] does; its\n'
        "bounds allow for looking again and again",
    )
    parser.add_argument(
        "--complete", action="store_true", help="with it: ask everything all the same; what is decided stays decided"
    )
    parser.add_argument(
        "--keep-all", action="store_true", help="keep what a pattern or settings that vary stand for and cannot fit"
    )
    parser.add_argument(
        "--unsafe-no-isolation",
        action="store_true",
        help="run generated code without isolation; the record says so",
    )
    parser.add_argument(
        "--dry-run", action="store_true", help="start nothing: what is left to do, how long at least, what it can show"
    )
    parser.add_argument(
        "--earlier",
        metavar="RECORD",
        help="with --dry-run: take what this record found of the same candidates for what is likely to be decided",
    )
    parser.add_argument("--json", action="store_true", help="print the contrast as one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the campaign and print the contrast."""
    if args.dry_run:
        plan = _plan(args.plan, args.rig, keep_all=args.keep_all, until_decided=args.until_decided)
        return show_forecast(
            plan, args.only, earlier=read_place(args.earlier) if args.earlier is not None else None, as_json=args.json
        )
    if args.earlier is not None:
        raise InputError(
            "needs --dry-run", "--earlier", "It says what is likely to be decided; a run looks for itself."
        )
    if args.fleet is not None:
        if args.rig is not None:
            raise InputError("does not go with --fleet", "--rig", "A fleet's workers say which rig they are.")
        if args.graders is not None:
            raise InputError("does not go with --fleet", "--graders", "A fleet's own graders take part by themselves.")
        code = run_fleet(
            args.plan,
            args.fleet,
            only=args.only,
            options=_for_every_part(args),
            keep_all=args.keep_all,
            until_decided=args.until_decided,
            unsafe=args.unsafe_no_isolation,
        )
        show(overview_view(Record.open(read_plan(args.plan).record), with_notes=True), as_json=args.json)
        return code
    code = run_campaign(
        args.plan,
        args.only,
        rig=args.rig,
        parts=args.part,
        retry_faults=args.retry_faults,
        unsafe=args.unsafe_no_isolation,
        again=args.again or (),
        keep_all=args.keep_all,
        until_decided=args.until_decided,
        complete=args.complete,
        graders=args.graders,
    )
    show(overview_view(Record.open(read_plan(args.plan).record), with_notes=True), as_json=args.json)
    return code


def _for_every_part(args: argparse.Namespace) -> tuple[str, ...]:
    """What of the command is for every part of a fleet's campaign."""
    words: list[str] = []
    for name in ("part", "again"):
        for value in getattr(args, name) or ():
            words += [f"--{name}", value]
    flags = ("retry_faults", "until_decided", "complete", "keep_all", "unsafe_no_isolation")
    return (*words, *(f"--{name.replace('_', '-')}" for name in flags if getattr(args, name)))


def run_campaign(
    plan_path: Path,
    only: str | None,
    *,
    rig: str | None = None,
    parts: Sequence[str] | None = None,
    retry_faults: bool = False,
    unsafe: bool = False,
    again: Sequence[str] = (),
    within_s: float | None = None,
    keep_all: bool = False,
    until_decided: bool = False,
    complete: bool = False,
    graders: str | None = None,
) -> ExitCode:
    """Carry out a plan; the exit code says whether everything could be measured.

    ``graders`` is the address of a scheduler whose graders take part; ``within_s`` what one candidate may take, in
    seconds; ``keep_all`` runs what cannot fit too.
    """
    superseding = again_of(again)
    plan = _plan(plan_path, rig, keep_all=keep_all, until_decided=until_decided)
    if complete and plan.campaign.until == "all":
        raise InputError("asks everything already", "--complete", "It goes with --until-decided.")
    check_extensions(plan)
    asked = read_asked(plan)
    candidates, exercises = select(plan, only, [exercise.id for exercise in asked.exercises])
    for candidate in plan.candidates:
        # faults are told before any start
        fixed_texts(candidate.fidelity, asked.exercises, plan.folder)
        if candidate.grading.fills != (None,):
            filler_of(candidate, asked.exercises, plan.folder)
    accelerator = open_accelerator(plan.rig.accelerator, plan.folder)
    isolation: Isolation = NoIsolation() if unsafe else available_isolation()
    grader = Grader(isolation)
    asked = asked.settled(grader)
    prepare_grading(grader, asked)
    record = Record.create_or_open(plan.record)
    _log_faults(plan.logs / "kettlefield.log")
    with (
        CampaignProgress() as progress,
        record.lock(rig=plan.rig_name, logs=plan.logs, say=progress.trouble),
        spread_over(graders, grader, plan, asked, progress.say) as spread,
    ):
        for line in plan.left_out:
            progress.trouble(f"left out: {line}")
        if retry_faults:
            record.drop_faults([str(fault) for fault in FAULTS], record.rig_id(plan.rig_name))
        for name in sorted(candidates) if again else ():
            known = record.candidate_id(name)
            if known is not None:
                record.supersede(known, superseding.procedures, memory=superseding.memory)
        conductor = Conductor(plan, asked, record, spread, accelerator, progress)
        chosen = frozenset(parts or (superseding.parts if again else PARTS))
        scope = Scope(
            candidates=frozenset(candidates),
            exercises=frozenset(exercises),
            parts=chosen,
            within_s=within_s,
            complete=complete,
        )
        tally = _run(conductor.run(scope))
    record.close()
    if tally.faults:
        print(
            f"kettlefield: {tally.faults} of {tally.trials} trials ended in a fault of server or rig; "
            "they do not count against the model. When it is fixed, run again with --retry-faults.",
            file=sys.stderr,
        )
    return ExitCode.NOT_MEASURED if tally.faults or tally.troubles else ExitCode.DONE


def _plan(path: Path, rig: str | None, *, keep_all: bool, until_decided: bool) -> Plan:
    plan = read_plan(path, keep_all=keep_all)
    plan = on_rig(plan, own_rig(plan, rig))
    return plan.until_decided() if until_decided else plan


def _log_faults(path: Path) -> None:
    """Keep tracebacks of faults of our own in a file beside the servers' logs; on the terminal stands their line."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handler = logging.FileHandler(path, encoding="utf-8", errors="backslashreplace", delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s: %(message)s"))
    logger = logging.getLogger("kettlefield.campaign")
    for earlier in logger.handlers:
        earlier.close()  # of a run before this one in the same process
    logger.handlers = [handler]
    logger.propagate = logging.getLogger().isEnabledFor(logging.INFO)


def _run(work: Coroutine[Any, Any, T]) -> T:
    """Run on uvloop where it is installed; SIGTERM ends the campaign as Ctrl-C does."""
    factory: Callable[[], asyncio.AbstractEventLoop] | None = None
    with contextlib.suppress(ImportError):
        factory = uvloop.new_event_loop

    async def guarded() -> T:
        task = asyncio.ensure_future(work)
        # by the loop, not by an exception out of a signal handler: that can be lost inside a callback
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, task.cancel)
        try:
            return await task
        except asyncio.CancelledError:
            raise KeyboardInterrupt from None

    with asyncio.Runner(loop_factory=factory) as runner:
        return runner.run(guarded())


def show_forecast(plan: Plan, only: str | None, *, earlier: Place | None, as_json: bool) -> ExitCode:
    """Print what a plan has still to do; nothing is started and nothing written."""
    check_extensions(plan)
    suite = read_asked(plan)
    candidates, names = select(plan, only, [exercise.id for exercise in suite.exercises])
    exercises = tuple(exercise for exercise in suite.exercises if exercise.id in names)
    record = Record.open(plan.record) if Record.is_there(plan.record) else None
    accelerator = open_accelerator(plan.rig.accelerator, plan.folder)
    chosen = [candidate for candidate in plan.candidates if candidate.name in candidates]
    over = over_in(plan, record)
    forecasts = forecast(chosen, exercises, record, accelerator, over=over)
    samples = min(candidate.grading.samples for candidate in chosen)
    drop = smallest_drop(effective_pairs(len(exercises), samples), discordant=DISCORDANT)
    view = forecast_view(
        suite,
        forecasts,
        exercises=len(exercises),
        samples=samples,
        discordant=DISCORDANT,
        drop=drop,
        without=plan.left_out,
        decisions=outlooks(plan, suite, forecasts, record, Record.open(earlier) if earlier is not None else None, over)
        if plan.campaign.until == "decided"
        else (),
    )
    show(view, as_json=as_json)
    return ExitCode.DONE
