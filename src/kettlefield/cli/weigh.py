"""``kettlefield weigh``: what weights files are, what they need, whether they fit - from headers alone."""

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from kettlefield.campaign.learning import known_overhead
from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import as_sentence
from kettlefield.core.units import format_bytes, parse_size
from kettlefield.rig.accelerators import find_accelerators
from kettlefield.rig.host import read_host
from kettlefield.rig.survey import own_bandwidth
from kettlefield.views.figures.memory_charts import draw_memory
from kettlefield.views.terminal import make_console, show
from kettlefield.views.weights_view import weights_view
from kettlefield.weights.digests import weights_digest
from kettlefield.weights.facts import check_policy
from kettlefield.weights.fit import Settings, weigh_all
from kettlefield.weights.formats import read_facts

if TYPE_CHECKING:
    from kettlefield.core.sizing.requirements import LearnedOverhead
    from kettlefield.weights.fit import Settings, Weighed


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "weigh",
        help=COMMANDS["weigh"],
        description="Read headers only - no weights, no server - and say what each file is, what it needs at each\n"
        "context length, whether that fits a budget, and how fast it could possibly decode.",
        epilog="examples:\n  kettlefield weigh models/*.gguf --budget '16 GiB'\n"
        "  kettlefield weigh model-folder --context 8192 --kv-bits 8 --parallel 4 --plot memory.png",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("files", nargs="+", type=Path, metavar="FILE", help="GGUF, safetensors, an index, or a folder")
    parser.add_argument("--context", nargs="+", type=_positive, default=[4096, 16384], metavar="TOKENS")
    parser.add_argument("--kv-bits", nargs="+", type=int, choices=(16, 8, 4), default=[16, 8, 4])
    parser.add_argument("--parallel", nargs="+", type=_positive, default=[1], metavar="STREAMS")
    parser.add_argument("--budget", metavar="SIZE", help="memory to fit into; default: the accelerator's or the host's")
    parser.add_argument(
        "--overhead", metavar="SIZE", help="what the server takes beside weights and cache; default: a rule of thumb"
    )
    parser.add_argument(
        "--server",
        metavar="COMMAND",
        help="the command that would serve them: use what its campaigns here have learned",
    )
    parser.add_argument("--allow-licence", nargs="+", default=[], metavar="SPDX", help="licences that are allowed")
    parser.add_argument("--digest", action="store_true", help="read the files whole for their SHA-256")
    parser.add_argument("--plot", type=Path, metavar="FILE.png", help="draw memory against context")
    parser.add_argument("-w", "--wide", action="store_true", help="of several files everything, as of one")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Weigh and print."""
    check_policy(args.allow_licence)
    budget, source = find_budget(args.budget)
    settings = Settings(
        contexts=tuple(args.context),
        kv_bits=tuple(args.kv_bits),
        parallel=tuple(args.parallel),
        budget_bytes=budget,
        bandwidth_bytes_s=own_bandwidth(),
        overhead_bytes=find_overhead(args.overhead),
        learned=find_learned(args.server),
    )
    show_weighed(
        args.files,
        settings,
        source,
        allowed=args.allow_licence,
        digest=args.digest,
        plot=args.plot,
        wide=args.wide,
        as_json=args.json,
    )
    return ExitCode.DONE


def show_weighed(
    paths: list[Path],
    settings: "Settings",
    source: str,
    *,
    allowed: list[str],
    digest: bool = False,
    plot: Path | None = None,
    wide: bool = False,
    as_json: bool = False,
) -> None:
    """Weigh files and print what they are and need; ``source`` says where the budget comes from."""
    models = [read_facts(path) for path in paths]
    weighed = weigh_all(models, settings)
    digests: list[list[str] | None] = [None] * len(models)
    if digest:
        total = sum(file.stat().st_size for facts in models for file in facts.files)
        with make_console(stderr=True).status("reading") as status:
            done = 0

            def tell(count: int) -> None:
                nonlocal done
                done += count
                status.update(f"reading for SHA-256: {format_bytes(done)} of {format_bytes(total)}")

            digests = [[weights_digest(file, tell) for file in facts.files] for facts in models]
    if plot is not None:
        _plot(plot, weighed, settings)
    show(weights_view(weighed, settings, source, allowed=allowed, digests=digests, wide=wide), as_json=as_json)


def find_budget(text: str | None) -> tuple[int, str]:
    """The budget in bytes and where it comes from: as given, else the largest accelerator, else the host.

    Raises
    ------
    InputError
        The text is not a size.
    """
    if text is not None:
        budget = _size(text, "--budget")
        return budget, f"{format_bytes(budget)}, as given"
    cards = find_accelerators()
    if cards:
        largest = max(cards, key=lambda card: card.memory_bytes)
        return largest.memory_bytes, f"{format_bytes(largest.memory_bytes)}, memory of {largest.name}"
    memory = read_host().memory_bytes
    return memory, f"{format_bytes(memory)}, all memory of this host"


def find_overhead(text: str | None) -> int | None:
    """What is said of a server's own memory, in bytes; None: the rule of thumb holds.

    Raises
    ------
    InputError
        The text is not a size.
    """
    return None if text is None else _size(text, "--overhead")


def find_learned(command: str | None) -> "LearnedOverhead | None":
    """What campaigns on this rig have learned of a server's own memory; None: nothing, or no server is named.

    Raises
    ------
    InputError
        The command cannot be split into words.
    """
    words = split_command(command)
    return known_overhead(words) if words else None


def split_command(command: str | None) -> list[str] | None:
    """The words of a server's command as a shell splits them.

    Raises
    ------
    InputError
        Its quotation marks are not closed.
    """
    if command is None:
        return None
    try:
        return shlex.split(command)
    except ValueError as err:
        raise InputError(f"cannot be split into words ({err})", "--server", "Close its quotation marks.") from err


def _size(text: str, option: str) -> int:

    try:
        return parse_size(text)
    except ValueError as err:
        raise InputError(f'is "{text}"', option, as_sentence(str(err))) from err


def _positive(text: str) -> int:
    value = int(text)
    if value < 1:
        raise argparse.ArgumentTypeError(f"{text} is not above 0")
    return value


def _plot(path: Path, weighed: "tuple[Weighed, ...]", settings: "Settings") -> None:

    bits, parallel = settings.kv_bits[0], settings.parallel[0]
    try:
        models = [one.facts for one in weighed]
        draw_memory(models, path, budget_bytes=settings.budget_bytes, kv_bits=bits, parallel=parallel)
    except (ValueError, OSError) as err:
        raise InputError(
            f"cannot be drawn ({err})", f"--plot {path}", "Name a file that ends in .png or .svg."
        ) from err
