"""``kettlefield qualify --dry-run``: what a plan has still to do, how long at least, and what it can show."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING

from kettlefield.campaign.forecast import forecast
from kettlefield.cli.console import make_console, make_table, print_json, print_not_measured, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.cli.suite import DISCORDANT
from kettlefield.core.statistics.estimate import not_measured_words
from kettlefield.core.statistics.power import effective_pairs, smallest_drop
from kettlefield.core.units import format_duration
from kettlefield.plan.plan import read_plan, select
from kettlefield.plan.suite_selection import read_asked
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import open_accelerator

if TYPE_CHECKING:
    from kettlefield.campaign.forecast import Forecast


def show_forecast(plan_path: Path, only: str | None, *, as_json: bool) -> ExitCode:
    """Print what a plan has still to do; nothing is started and nothing written."""
    plan = read_plan(plan_path)
    suite = read_asked(plan)
    candidates, names = select(plan, only, [exercise.id for exercise in suite.exercises])
    exercises = tuple(exercise for exercise in suite.exercises if exercise.id in names)
    record = Record.open(plan.record) if plan.record.exists() else None
    accelerator = open_accelerator(plan.rig.accelerator, plan.folder)
    chosen = [candidate for candidate in plan.candidates if candidate.name in candidates]
    found = forecast(chosen, exercises, record, accelerator)
    samples = min(candidate.grading.samples for candidate in chosen)
    drop = smallest_drop(effective_pairs(len(exercises), samples), discordant=DISCORDANT)
    if as_json:
        print_json(
            {
                "suite": suite.label,
                "exercises": len(exercises),
                "samples": samples,
                "discordant": DISCORDANT,
                "smallest_drop": drop,
                "not_measured": not_measured_words(suite.not_measured),
                "candidates": [dataclasses.asdict(row) for row in found],
            }
        )
        return ExitCode.DONE
    console = make_console()
    table = make_table(
        "candidate",
        ">trials left",
        ">ended in faults",
        ">timed requests left",
        ">decode, tokens/s",
        "that rate is",
        ">prefill, tokens/s",
        ">at least",
    )
    for row in found:
        rate = "-" if row.rate_tps is None else f"{row.rate_tps:,.0f}"
        table.add_row(
            safe(row.candidate),
            str(row.trials),
            str(row.faulted),
            str(row.timed_requests),
            rate,
            row.basis,
            "-" if row.prefill_tps is None else f"{row.prefill_tps:,.0f}",
            format_duration(row.at_least_s),
        )
    print_table(console, table)
    for row in found:
        for line in _over_context(row):
            console.print(safe(f"! {row.candidate}: {line}", "yellow"))
    if any(row.prefill_tps is None for row in found):
        console.print("-: prefill was not timed yet; reading prompts is not in the time.", style="dim")
    if any(row.faulted for row in found):
        console.print("Trials that ended in a fault of server or rig are asked again with --retry-faults.", style="dim")
    print_not_measured(console, not_measured_words(suite.not_measured))
    known = [row.at_least_s for row in found if row.at_least_s is not None]
    words = f"more than {DISCORDANT:g}" if drop is None else f"{drop:.2f}"
    console.print(
        safe(
            f"{suite.label}: {len(exercises)} exercises, {samples} samples each; "
            f"reading and generating take at least {format_duration(sum(known))}"
        )
    )
    console.print(
        safe(
            f"smallest drop from one level to another that this notices in 80 of 100 campaigns: {words} "
            f"(one-sided 95 %, {DISCORDANT:.0%} of the exercises solved by just one of the two)"
        )
    )
    return ExitCode.DONE


def _over_context(row: "Forecast") -> list[str]:
    """The exercises whose prompts do not fit, as far as can be said before anything is asked."""
    if not row.over_context:
        return []
    names = ", ".join(f"{name} ({tokens:,})" for name, tokens in sorted(row.over_context.items()))
    how = "as the server counts" if row.counted else "guessed: the server has counted none of them yet"
    return [f"{len(row.over_context)} exercises do not fit its context; prompt tokens, {how}: {names}"]
