"""``kettlefield demo --fleet``: a campaign on three made-up rigs, through a real scheduler into a real database."""

import contextlib
from collections.abc import Callable
from pathlib import Path

from kettlefield.campaign.readiness import prepare_grading
from kettlefield.cli.commands import ExitCode
from kettlefield.cli.fleet_run import run_fleet
from kettlefield.demo.fleet_folder import CAMPAIGN, RIGS, prepare_fleet_demo
from kettlefield.demo.private_database import PrivateDatabase
from kettlefield.demo.private_fleet import private_fleet
from kettlefield.grading.grader import Grader
from kettlefield.plan.plan import read_plan
from kettlefield.plan.suite_selection import read_asked
from kettlefield.record.copying import copy_campaign
from kettlefield.record.place import FilePlace, Place, read_place
from kettlefield.record.store import Record
from kettlefield.sandbox.runner import available_isolation
from kettlefield.views.rigs_view import rigs_view
from kettlefield.views.terminal import make_console, safe, show

GRADED_AT_ONCE = 2
LOOK_NEXT = """
Look next at:
  {plan}  the rigs, and what was decided beforehand
  kettlefield compare {record}  every figure of every candidate on every rig
  kettlefield compare {record} --part rigs --json  which level on which rig, for a script
  kettlefield report {record} -o {folder}/report  the same as a page
  kettlefield records {record}  who took part"""


def run_fleet_demo(folder: Path) -> ExitCode:
    """Start a database, a scheduler and workers, run the campaign on them, and keep its record in a file.

    Raises
    ------
    InputError
        PostgreSQL or Dask is not installed, or the folder holds something else.
    RigError
        One of them does not start.
    """
    err = make_console(stderr=True)

    def say(text: str) -> None:
        err.print(safe(text, "dim"), soft_wrap=True)

    with contextlib.ExitStack() as running:
        say("initdb; pg_ctl start  a database of the demo's own, which ends with it")
        database = PrivateDatabase()
        running.callback(database.remove)
        place = read_place(f"{database.url()}#{CAMPAIGN}")
        plan = prepare_fleet_demo(folder, place)
        kept = FilePlace(folder / "record.db")
        if kept.path.exists():
            say(f"kettlefield records copy {kept} {place}  what an earlier run kept, to be resumed")
            copy_campaign(kept, place)[0].close()
        _make_ready(plan)
        address = running.enter_context(private_fleet(folder, [rig.name for rig in RIGS], GRADED_AT_ONCE, say))
        say(f"kettlefield qualify {plan} --fleet {address}")
        try:
            code = run_fleet(plan, address)
        finally:
            _keep(place, kept, say)
    console = make_console()
    show(rigs_view(Record.open(kept)), as_json=False)
    console.print(safe(LOOK_NEXT.format(plan=plan, record=kept, folder=folder)))
    return code


def _make_ready(plan_path: Path) -> None:
    """See once that answers can be graded here; all workers, which are on one machine, remember it."""
    grader = Grader(available_isolation())
    prepare_grading(grader, read_asked(read_plan(plan_path)).settled(grader))


def _keep(place: Place, kept: FilePlace, say: Callable[[str], None]) -> None:
    """Copy the campaign into the demo's folder, in the place of an earlier state of it."""
    if not Record.is_there(place):
        return
    new = FilePlace(kept.path.with_suffix(".new"))
    for suffix in ("", "-wal", "-shm"):
        new.beside(suffix).unlink(missing_ok=True)
    say(f"kettlefield records copy {place} {kept}")
    copy_campaign(place, new)[0].close()
    for suffix in ("-wal", "-shm"):
        kept.beside(suffix).unlink(missing_ok=True)
    new.path.replace(kept.path)
