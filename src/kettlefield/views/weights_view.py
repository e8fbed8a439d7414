"""Weights files side by side: what they are, what memory they require, and whether they fit."""

from collections.abc import Sequence
from typing import Any

from kettlefield.campaign.learning import known_servers
from kettlefield.core.sizing.requirements import OVERHEAD_RULE, kv_bytes_per_token
from kettlefield.core.units import format_bytes, format_count
from kettlefield.views.table import Align, Column, Table, View, Words, count, number, present, size, table, words
from kettlefield.weights.facts import GROUPS, is_allowed
from kettlefield.weights.fit import Fit, Settings, Weighed

ONE_TABLE = "--wide: layers, tensors, and the memory under every setting"
UNSIZED = "No file says enough of its KV cache to size it."


def weights_view(
    weighed: Sequence[Weighed],
    settings: Settings,
    source: str,
    *,
    allowed: list[str],
    digests: Sequence[list[str] | None],
    wide: bool = False,
) -> View:
    """Files, their groups of tensors, and the memory that they require; of several files whether they fit.

    Parameters
    ----------
    weighed : sequence of Weighed
        One a file.
    settings : Settings
        Under which they were weighed.
    source : str
        Where the budget comes from.
    allowed : list of str
        Licences that a policy allows, as SPDX; none: no policy.
    digests : sequence
        SHA-256 of every file of each, where it was asked for.
    wide : bool
        Of several files everything too.
    """
    known = [one for one in weighed if one.facts.kv_heads]
    hashes = [
        f"sha256 {value}  {file}"
        for one, digest in zip(weighed, digests, strict=True)
        for file, value in zip(one.facts.files, digest or [], strict=False)
    ]
    return View(
        title="",
        simulated=False,
        parts=present(
            *(
                (files_table(weighed, allowed), groups_table(weighed))
                if wide or len(weighed) == 1
                else (fits_table(weighed, source, settings, allowed),)
            ),
            *(
                Words(text=f"{one.facts.path.name}: {remark}", tone="warning")
                for one in weighed
                for remark in one.facts.remarks
            ),
            (requirements_table(known, source, settings) if wide or len(weighed) == 1 or not known else None)
            or (Words(text=ONE_TABLE, tone="small") if known else Words(text=UNSIZED)),
            *(Words(text=text, folds=False) for text in hashes),
        ),
        document={
            "budget_bytes": settings.budget_bytes,
            "bandwidth_bytes_s": settings.bandwidth_bytes_s,
            "files": [_document(one, digest, allowed) for one, digest in zip(weighed, digests, strict=True)],
        },
    )


def fits_table(weighed: Sequence[Weighed], source: str, settings: Settings, allowed: list[str]) -> Table | None:
    """Several files in one table: what each takes, and whether it fits, in words."""
    return table(
        f"Will they fit? (budget {source})",
        [
            words("file"),
            words("level"),
            size("weights"),
            Column(name="bits/\nweight", align=Align.RIGHT, show="{:.2f}".format),
            size("required"),
            words("fits"),
            Column(name="longest\ncontext", align=Align.RIGHT, show="{:,}".format),
            *([words("licence")] if allowed else []),
        ],
        [
            (
                *(_short(one), one.facts.level, one.facts.weights_bytes, one.facts.bits_per_weight),
                one.fits[0].need.total_bytes if one.facts.kv_heads and one.fits else None,
                _fits_words(one),
                (one.largest_context or "none") if one.facts.kv_heads else None,
                *([_licence(one, allowed)] if allowed else []),
            )
            for one in weighed
        ],
        note=f"Required: a context of {_setting_words(first)} of KV cache, {_overhead_words(settings)}."
        if (first := next((one.fits[0] for one in weighed if one.facts.kv_heads and one.fits), None)) is not None
        else "",
    )


def _fits_words(one: Weighed) -> str:
    """Whether a file fits, under which of the settings."""
    if not one.facts.kv_heads or any(fit.fits is None for fit in one.fits):
        return "not known"
    fitting = [fit for fit in one.fits if fit.fits]
    if len(fitting) == len(one.fits):
        return "yes" if len(one.fits) == 1 else f"yes, at all {len(one.fits)} settings"
    if not fitting:
        return f"no, {one.fits[0].layers_on} of {one.facts.layers} layers would"
    most = max(fitting, key=lambda fit: fit.need.total_bytes)
    return ("up to " if len(fitting) > 1 else "only ") + _setting_words(most)


def _setting_words(fit: Fit) -> str:
    parallel = f" x{fit.need.parallel}" if fit.need.parallel > 1 else ""
    return f"{fit.need.context_tokens:,}{parallel} at {fit.need.kv_bits} bit"


def files_table(weighed: Sequence[Weighed], allowed: list[str]) -> Table | None:
    """What each file is."""
    return table(
        "Weights files",
        [
            words("file"),
            words("model"),
            words("level"),
            Column(name="parameters", align=Align.RIGHT),
            size("weights"),
            Column(name="bits/\nweight", align=Align.RIGHT, show="{:.2f}".format),
            count("context"),
            count("vocabulary"),
            words("layers"),
            words("prompt"),
            words("licence"),
        ],
        [
            (
                *(_short(one), one.facts.model, one.facts.level, _parameters(one), one.facts.weights_bytes),
                *(one.facts.bits_per_weight, one.facts.context_tokens or None, one.facts.vocabulary or None),
                _layers(one),
                one.facts.style + (", infill" if one.facts.chat_template and one.facts.infill_markers else ""),
                _licence(one, allowed),
            )
            for one in weighed
        ],
    )


def groups_table(weighed: Sequence[Weighed]) -> Table | None:
    """Bits per weight by kind of tensor."""
    names = _group_names(weighed)
    groups = [{group.name: group for group in one.facts.groups} for one in weighed]
    return table(
        "Bits per weight by kind of tensor",
        [words("file"), *(Column(name=name, align=Align.RIGHT, show=_group) for name in names)],
        [(_short(one), *(by_name.get(name) for name in names)) for one, by_name in zip(weighed, groups, strict=True)],
    )


def requirements_table(known: Sequence[Weighed], source: str, settings: Settings) -> Table | None:
    """Memory required under each setting."""
    bandwidth = (
        f" Ceiling: {format_bytes(round(settings.bandwidth_bytes_s))}/s of bandwidth over the bytes that one token "
        "must read."
        if settings.bandwidth_bytes_s is not None
        else ""
    )
    fits = known[0].fits if known else ()
    return table(
        f"Memory required (budget {source})",
        [
            words("file"),
            size("KV cache/\ntoken"),
            *(Column(name=_setting(fit), align=Align.RIGHT) for fit in fits),
            Column(name="longest\ncontext", align=Align.RIGHT, show="{:,}".format),
            number("ceiling", "tokens/s"),
        ],
        [
            (
                _short(one),
                kv_bytes_per_token(one.facts.shape()),
                *(_fit(fit, one.facts.layers) for fit in one.fits),
                one.largest_context or "none",
                one.ceiling_tps or None,
            )
            for one in known
        ],
        note=f"{_overhead_words(settings)}. NO: does not fit, n/m: layers that would on their own; +: beyond the "
        "model's "
        f"window.{bandwidth}",
    )


def _group(group: Any) -> str:
    return f"{group.bits_per_weight:.2f} {'+'.join(group.types)}"


def _parameters(one: Weighed) -> str:
    facts = one.facts
    active = f" ({format_count(facts.active_parameters)} active)" if facts.experts else ""
    return format_count(facts.parameters) + active


def _document(weighed: Weighed, digests: list[str] | None, allowed: list[str]) -> dict[str, Any]:
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


def _fit_json(fit: Fit) -> dict[str, Any]:
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


def _overhead_words(settings: Settings) -> str:
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


def _short(one: Weighed) -> str:
    return one.facts.path.name.removesuffix(".gguf").removesuffix(".safetensors")


def _setting(fit: Fit) -> str:
    parallel = f" x{fit.need.parallel}" if fit.need.parallel > 1 else ""
    return f"{fit.need.context_tokens:,}{parallel}\n{fit.need.kv_bits} bit"


def _fit(fit: Fit, layers: int) -> str:
    refused = f" NO {fit.layers_on}/{layers}" if fit.fits is False else ""
    return f"{format_bytes(fit.need.total_bytes)}{'+' if fit.beyond_window else ''}{refused}"


def _layers(one: Weighed) -> str:
    facts = one.facts
    if not facts.kv_heads:
        return str(facts.layers)
    windows = sorted({window for window in facts.windows if window is not None})
    window = f", window {'/'.join(f'{w:,}' for w in windows)}" if windows else ""
    experts = f", {facts.experts} experts, {facts.experts_used} used" if facts.experts else ""
    return f"{facts.layers}, {facts.heads}/{max(facts.kv_heads)} heads of {facts.head_size}{window}{experts}"


def _licence(one: Weighed, allowed: list[str]) -> str:
    licence = one.facts.licence
    if licence.written is None:
        return "none given"
    if licence.spdx is None:
        return f"{licence.written} (not SPDX)"
    if not allowed:
        return licence.spdx
    return f"{licence.spdx}, {'allowed' if is_allowed(licence, allowed) else 'NOT allowed'}"


def _group_names(weighed: Sequence[Weighed]) -> list[str]:
    names = {group.name for one in weighed for group in one.facts.groups}
    return [name for name in GROUPS if name in names]
