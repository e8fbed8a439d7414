"""``kettlefield vet``: prove that a suite's checks can be trusted."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.cli.exits import ExitCode

if TYPE_CHECKING:
    from kettlefield.grading.vetting import Vetted
    from kettlefield.suite.format import Suite


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "vet",
        help="prove that a suite's answers pass and its decoys fail",
        description="Run every exercise's own answer, which must pass, and its decoys, which must end as they declare.",
        epilog="exit code: 1 when anything is wrong.\n\n"
        "examples:\n  kettlefield vet berthdesk\n  kettlefield vet my-suite --lock",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("suite", help="a built-in suite's name, or a folder")
    parser.add_argument("--lock", action="store_true", help="when all is well, write the suite's lock as it is now")
    parser.add_argument(
        "--unsafe-no-isolation",
        action="store_true",
        help="run the suite's code without isolation, because you trust it",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Vet and print what was found."""
    import os  # noqa: PLC0415

    from kettlefield.cli.console import make_console, print_json  # noqa: PLC0415
    from kettlefield.grading.vetting import vet_suite  # noqa: PLC0415
    from kettlefield.sandbox.available import available_isolation  # noqa: PLC0415
    from kettlefield.sandbox.isolation import Isolation, NoIsolation  # noqa: PLC0415
    from kettlefield.suite.loader import find_suite, load_suite  # noqa: PLC0415
    from kettlefield.suite.lock import write_lock  # noqa: PLC0415

    suite = load_suite(find_suite(args.suite, Path.cwd()), check_lock=not args.lock)
    isolation: Isolation = NoIsolation() if args.unsafe_no_isolation else available_isolation()
    console = make_console(stderr=True)
    with console.status(f"vetting {len(suite.exercises)} exercises") as status:
        done: list[str] = []

        def tell(vetted: "Vetted") -> None:
            done.append(vetted.exercise.id)
            status.update(f"vetted {len(done)} of {len(suite.exercises)}")

        found = vet_suite(suite, isolation, workers=os.cpu_count() or 1, on_done=tell)
    ok = not any(vetted.faults for vetted in found)
    if args.lock and ok:
        write_lock(suite.folder)
    if args.json:
        print_json({"ok": ok, "digest": suite.digest, "exercises": [_as_json(vetted) for vetted in found]})
    else:
        _print(suite, found, isolation.name)
    return ExitCode.DONE if ok else ExitCode.REJECTED


def _as_json(vetted: "Vetted") -> dict[str, Any]:
    spec = vetted.exercise.spec
    return {
        "id": vetted.exercise.id,
        "kind": spec.kind,
        "language": spec.language,
        "ok": not vetted.faults and not vetted.not_vetted,
        "faults": list(vetted.faults),
        "not_vetted": vetted.not_vetted,
    }


def _print(suite: "Suite", found: "tuple[Vetted, ...]", isolation: str) -> None:
    from kettlefield.cli.console import make_console, make_table, safe  # noqa: PLC0415

    console = make_console()
    table = make_table("exercise", "kind", "language", ">difficulty", ">cases", ">decoys", "finding")
    for vetted in found:
        spec = vetted.exercise.spec
        cases = sum(map(len, [*vetted.exercise.call_cases.values(), *vetted.exercise.program_cases.values()]))
        finding = safe("; ".join(vetted.faults) or vetted.not_vetted or "sound", "red" if vetted.faults else "")
        table.add_row(
            vetted.exercise.id,
            spec.kind,
            spec.language,
            str(spec.difficulty),
            str(cases),
            str(len(spec.decoy)),
            finding,
        )
    console.print(table)
    faulty = sum(bool(vetted.faults) for vetted in found)
    skipped = sum(bool(vetted.not_vetted) for vetted in found)
    sound = len(found) - faulty - skipped
    console.print(
        safe(f"{suite.name}: {sound} of {len(found)} exercises sound, {faulty} with faults, {skipped} not vetted here")
    )
    console.print(safe(f"digest {suite.digest}; isolation: {isolation}"), style="dim")
