"""``kettlefield weigh``: what weights files are, what they need, whether they fit - from headers alone."""

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.campaign.learning import known_overhead, known_servers
from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.console import make_console, make_table, print_json, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import as_sentence
from kettlefield.core.sizing.requirements import OVERHEAD_RULE, kv_bytes_per_token
from kettlefield.core.units import format_bytes, format_count, parse_size, three_digits
from kettlefield.rig.accelerators import find_accelerators
from kettlefield.rig.host import read_host
from kettlefield.rig.survey import own_bandwidth
from kettlefield.views.figures.sizing_chart import draw_memory
from kettlefield.weights.facts import GROUPS, check_policy, is_allowed
from kettlefield.weights.fit import Settings, weigh_all
from kettlefield.weights.formats import read_facts, weights_digest

if TYPE_CHECKING:
    from rich.console import Console

    from kettlefield.core.sizing.requirements import LearnedOverhead
    from kettlefield.weights.fit import Fit, Settings, Weighed


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
        args.files, settings, source, allowed=args.allow_licence, digest=args.digest, plot=args.plot, as_json=args.json
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
    if as_json:
        files = [_as_json(one, found, allowed) for one, found in zip(weighed, digests, strict=True)]
        print_json(
            {"budget_bytes": settings.budget_bytes, "bandwidth_bytes_s": settings.bandwidth_bytes_s, "files": files}
        )
        return
    console = make_console()
    _print_files(console, weighed, allowed)
    _print_needs(console, weighed, f"budget {source}", settings)
    for facts, found in zip(models, digests, strict=True):
        for file, value in zip(facts.files, found or [], strict=False):
            console.print(f"sha256 {value}  {file}", soft_wrap=True)


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


def _as_json(weighed: "Weighed", digests: list[str] | None, allowed: list[str]) -> dict[str, Any]:

    facts = weighed.facts
    return {
        "file": str(facts.path),
        "files": [str(file) for file in facts.files],
        "format": facts.format,
        "model": facts.model,
        "architecture": facts.architecture,
        "parameters": facts.parameters,
        "active_parameters": facts.active_parameters,
        "weights_bytes": facts.weights_bytes,
        "bits_per_weight": facts.bits_per_weight,
        "groups": [
            {"group": g.name, "parameters": g.parameters, "bits_per_weight": g.bits_per_weight, "types": list(g.types)}
            for g in facts.groups
        ],
        "level": facts.level,
        "context_tokens": facts.context_tokens,
        "layers": facts.layers,
        "heads": facts.heads,
        "kv_heads": max(facts.kv_heads, default=None),
        "head_size": facts.head_size,
        "windows": sorted({window for window in facts.windows if window is not None}),
        "shared_layers": facts.shared_layers,
        "experts": facts.experts,
        "experts_used": facts.experts_used,
        "vocabulary": facts.vocabulary,
        "kv_bytes_per_token": kv_bytes_per_token(facts.shape()) if facts.kv_heads else None,
        "style": facts.style,
        "chat_template": facts.chat_template,
        "infill_markers": facts.infill_markers,
        "licence": facts.licence.spdx,
        "licence_written": facts.licence.written,
        "licence_allowed": is_allowed(facts.licence, allowed) if allowed else None,
        "sha256": digests[0] if digests and len(digests) == 1 else None,
        "sha256_of_files": digests,
        "largest_context_tokens": weighed.largest_context,
        "decode_ceiling_tps": weighed.ceiling_tps,
        "remarks": list(facts.remarks),
        "memory": [_fit_json(fit) for fit in weighed.fits] if facts.kv_heads else [],
    }


def _fit_json(fit: "Fit") -> dict[str, Any]:
    need = fit.need
    return {
        "context_tokens": need.context_tokens,
        "kv_bits": need.kv_bits,
        "parallel": need.parallel,
        "weights_bytes": need.weights_bytes,
        "kv_bytes": need.kv_bytes,
        "overhead_bytes": need.overhead_bytes,
        "total_bytes": need.total_bytes,
        "fits": fit.fits,
        "layers_on": fit.layers_on,
        "beyond_window": fit.beyond_window,
    }


def _print_files(console: "Console", weighed: "tuple[Weighed, ...]", allowed: list[str]) -> None:

    table = make_table(
        "file",
        "model",
        "level",
        ">parameters",
        ">weights",
        ">bits/\nweight",
        ">context",
        ">vocabulary",
        "layers",
        "asked by",
        "licence",
    )
    for one in weighed:
        facts = one.facts
        active = f" ({format_count(facts.active_parameters)} active)" if facts.experts else ""
        table.add_row(
            safe(_short(one), "bold"),
            safe(facts.model),
            safe(facts.level),
            format_count(facts.parameters) + active,
            format_bytes(facts.weights_bytes),
            f"{facts.bits_per_weight:.2f}",
            f"{facts.context_tokens:,}" if facts.context_tokens else "-",
            f"{facts.vocabulary:,}" if facts.vocabulary else "-",
            _layers(one),
            facts.style + (", infill" if facts.chat_template and facts.infill_markers else ""),
            safe(_licence(one, allowed)),
        )
    print_table(console, table)
    groups = make_table(
        "file", *(f">{name}" for name in _group_names(weighed)), title="bits per weight by kind of tensor"
    )
    for one in weighed:
        by_name = {group.name: group for group in one.facts.groups}
        cells = []
        for name in _group_names(weighed):
            group = by_name.get(name)
            cells.append(safe(f"{group.bits_per_weight:.2f} {'+'.join(group.types)}" if group else "-"))
        groups.add_row(safe(_short(one)), *cells)
    print_table(console, groups)
    for one in weighed:
        for remark in one.facts.remarks:
            console.print(safe(f"{one.facts.path.name}: {remark}", "yellow"))


def _print_needs(console: "Console", weighed: "tuple[Weighed, ...]", budget: str, settings: "Settings") -> None:

    known = [one for one in weighed if one.facts.kv_heads]
    if not known:
        console.print("No file says enough of its cache to size it.")
        return
    heads = [f">{_setting(fit)}" for fit in known[0].fits]
    table = make_table(
        "file", ">cache/\ntoken", *heads, ">longest\ncontext", ">ceiling\ntokens/s", title=f"memory needed; {budget}"
    )
    for one in known:
        table.add_row(
            safe(_short(one), "bold"),
            format_bytes(kv_bytes_per_token(one.facts.shape())),
            *(_fit_cell(fit, one.facts.layers) for fit in one.fits),
            f"{one.largest_context:,}" if one.largest_context else "none",
            three_digits(one.ceiling_tps) if one.ceiling_tps else "-",
        )
    print_table(console, table)
    notes = [
        f"{_overhead_words(settings)}.",
        "NO: does not fit, n/m: layers that would on their own; +: beyond the model's window.",
    ]
    if settings.bandwidth_bytes_s is not None:
        bandwidth = format_bytes(settings.bandwidth_bytes_s)
        notes.append(f"Ceiling: {bandwidth}/s of bandwidth over the bytes that one token must read.")
    console.print(safe("\n".join(notes)), style="dim")


def _overhead_words(settings: "Settings") -> str:

    if settings.overhead_bytes is not None:
        return f"working overhead: {format_bytes(settings.overhead_bytes)}, as given"
    learned = settings.learned
    if learned is None:
        names = ", ".join(known_servers())
        return OVERHEAD_RULE + (f". Learned here for: {names}; --server COMMAND uses it" if names else "")
    growth = f", and {format_bytes(learned.per_token_bytes)} a token" if learned.per_token_bytes else ""
    at = f"at {learned.context_tokens:,} tokens{growth}"
    return (
        f"working overhead: {format_bytes(learned.overhead_bytes)} {at}, learned from {learned.learned_from} "
        f"on {learned.server}"
    )


def _short(one: "Weighed") -> str:
    return one.facts.path.name.removesuffix(".gguf").removesuffix(".safetensors")


def _setting(fit: "Fit") -> str:
    parallel = f" x{fit.need.parallel}" if fit.need.parallel > 1 else ""
    return f"{fit.need.context_tokens:,}{parallel}\n{fit.need.kv_bits} bit"


def _fit_cell(fit: "Fit", layers: int) -> str:

    refused = f" NO {fit.layers_on}/{layers}" if fit.fits is False else ""
    return f"{format_bytes(fit.need.total_bytes)}{'+' if fit.beyond_window else ''}{refused}"


def _layers(one: "Weighed") -> str:
    facts = one.facts
    if not facts.kv_heads:
        return str(facts.layers)
    windows = sorted({window for window in facts.windows if window is not None})
    window = f", window {'/'.join(f'{w:,}' for w in windows)}" if windows else ""
    experts = f", {facts.experts} experts, {facts.experts_used} used" if facts.experts else ""
    return f"{facts.layers}, {facts.heads}/{max(facts.kv_heads)} heads of {facts.head_size}{window}{experts}"


def _licence(one: "Weighed", allowed: list[str]) -> str:

    licence = one.facts.licence
    if licence.written is None:
        return "none given"
    if licence.spdx is None:
        return f"{licence.written} (not SPDX)"
    if not allowed:
        return licence.spdx
    return f"{licence.spdx}, {'allowed' if is_allowed(licence, allowed) else 'NOT allowed'}"


def _group_names(weighed: "tuple[Weighed, ...]") -> list[str]:

    found = {group.name for one in weighed for group in one.facts.groups}
    return [name for name in GROUPS if name in found]
