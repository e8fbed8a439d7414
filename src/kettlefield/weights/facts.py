"""What a weights file is, whatever its format: the record that readers make, and its licence as SPDX."""

import itertools
from collections.abc import Callable, Collection, Sequence
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import CacheLayer, ModelShape

GROUPS = ("embedding", "attention", "feed-forward", "experts", "output", "norms", "other")


class TensorFacts(msgspec.Struct, frozen=True, kw_only=True):
    """One tensor."""

    name: str
    parameters: int
    size_bytes: int
    type_name: str  # as the format names it; "type 77" when it names none


class GroupFacts(msgspec.Struct, frozen=True, kw_only=True):
    """Tensors of one kind together."""

    name: str
    parameters: int
    size_bytes: int
    types: tuple[str, ...]  # most parameters first

    @property
    def bits_per_weight(self) -> float:
        """Bits a parameter."""
        return 8 * self.size_bytes / self.parameters if self.parameters else 0.0


class Licence(msgspec.Struct, frozen=True, kw_only=True):
    """A licence as the file gives it and as SPDX writes it."""

    written: str | None
    spdx: str | None  # None: none given, or none that SPDX knows


class ModelFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What headers say of a model, and what follows from its tensors; None was not said."""

    path: Path
    files: tuple[Path, ...]  # all shards
    format: str  # "GGUF" or "safetensors"
    model: str
    architecture: str
    level: str
    tensors: tuple[TensorFacts, ...]
    weights_bytes: int  # tensors alone, without headers
    context_tokens: int | None
    layers: int
    heads: int | None
    kv_heads: tuple[int, ...]  # of each layer that keeps a cache
    head_size: int | None  # of a key
    value_size: int | None
    windows: tuple[int | None, ...]
    shared_layers: int  # layers that use another layer's cache
    experts: int | None
    experts_used: int | None
    vocabulary: int | None
    chat_template: bool
    infill_markers: dict[str, str]  # "prefix", "suffix", "middle" -> text
    licence: Licence
    remarks: tuple[str, ...]

    @property
    def parameters(self) -> int:
        """Counted from tensor shapes."""
        return sum(tensor.parameters for tensor in self.tensors)

    @property
    def active_parameters(self) -> int:
        """Parameters that take part in one token: of the experts only those used, of tables that give a row nothing."""
        in_experts = sum(tensor.parameters for tensor in self.tensors if group_of(tensor.name) == "experts")
        in_tables = sum(tensor.parameters for tensor in self._row_tables)
        return self.parameters - round((1 - self.experts_share) * in_experts) - in_tables

    @property
    def _row_tables(self) -> tuple[TensorFacts, ...]:
        """Tables of which a token takes a single row: learned positions, and an input table of its own.

        An input table that is the output too is read whole.
        """
        has_output = any(group_of(tensor.name) == "output" for tensor in self.tensors)
        return tuple(
            tensor
            for tensor in self.tensors
            if is_position_table(tensor.name) or (has_output and is_input_table(tensor.name))
        )

    @property
    def experts_share(self) -> float:
        """The share of experts that one token uses; 1 without experts."""
        return self.experts_used / self.experts if self.experts and self.experts_used else 1.0

    @property
    def bits_per_weight(self) -> float:
        """Overall, bits a parameter."""
        return 8 * self.weights_bytes / self.parameters if self.parameters else 0.0

    @property
    def style(self) -> str:
        """How it wants to be asked: "chat", "infill" or "continuation"."""
        if self.chat_template:
            return "chat"
        return "infill" if self.infill_markers else "continuation"

    @property
    def groups(self) -> tuple[GroupFacts, ...]:
        """Tensors by kind, in a fixed order; kinds without tensors are left out."""
        tensors = []
        for name in GROUPS:
            members = [tensor for tensor in self.tensors if group_of(tensor.name) == name]
            if members:
                tensors.append(_group(name, members))
        return tuple(tensors)

    def shape(self) -> ModelShape:
        """What sizing needs."""
        layer_bytes = sum(t.size_bytes for t in self.tensors if layer_of(t.name) is not None)
        expert_bytes = sum(t.size_bytes for t in self.tensors if group_of(t.name) == "experts")
        resting = round((1 - self.experts_share) * expert_bytes)
        skipped = sum(tensor.size_bytes for tensor in self._row_tables)
        return ModelShape(
            weights_bytes=self.weights_bytes,
            cache_layers=tuple(
                CacheLayer(
                    kv_heads=heads, key_size=self.head_size or 0, value_size=self.value_size or 0, window_tokens=window
                )
                for heads, window in zip(self.kv_heads, self.windows, strict=True)
            ),
            layers=self.layers,
            layer_bytes=layer_bytes,
            read_bytes=max(1, self.weights_bytes - resting - skipped),
        )


def _group(name: str, members: Sequence[TensorFacts]) -> GroupFacts:
    by_type: dict[str, int] = {}
    for tensor in members:
        by_type[tensor.type_name] = by_type.get(tensor.type_name, 0) + tensor.parameters
    return GroupFacts(
        name=name,
        parameters=sum(tensor.parameters for tensor in members),
        size_bytes=sum(tensor.size_bytes for tensor in members),
        types=tuple(sorted(by_type, key=lambda kind: (-by_type[kind], kind))),
    )


def layer_of(name: str) -> int | None:
    """The layer that a tensor belongs to: ``blk.7.attn_q.weight``, ``model.layers.7.self_attn.q_proj.weight``."""
    parts = name.split(".")
    for before, number in itertools.pairwise(parts):
        if before in {"blk", "layers", "layer", "h", "blocks"} and number.isdigit() and len(number) < 6:
            return int(number)
    return None


def is_input_table(name: str) -> bool:
    """Whether a tensor is the table of input embeddings."""
    return any(word in name for word in ("token_embd", "embed_tokens", "wte.", "word_embeddings"))


def is_position_table(name: str) -> bool:
    """Whether a tensor is a table of learned positions."""
    return any(word in name for word in ("position_embd", "wpe.", "embed_positions", "position_embeddings"))


def group_of(name: str) -> str:
    """The kind of a tensor, from the names that both formats use."""
    lowered = name.lower()
    if "norm" in lowered or "ln_" in lowered:
        return "norms"
    if is_input_table(lowered) or "embed" in lowered:
        return "embedding"
    if "shared_expert" in lowered or "shexp" in lowered:
        return "feed-forward"  # every token goes through them
    if "exps" in lowered or "experts" in lowered:
        return "experts"
    if "attn" in lowered or "attention" in lowered:
        return "attention"
    if "ffn" in lowered or "mlp" in lowered or "feed_forward" in lowered:
        return "feed-forward"
    if lowered.startswith(("output.", "lm_head")):
        return "output"
    return "other"


MAX_CHARS = 300  # a licence expression, not a licence text


@cache
def _spdx() -> Any:
    from license_expression import get_spdx_licensing  # noqa: PLC0415 - reads its index, a twentieth of a second

    return get_spdx_licensing()


def read_licence(written: object) -> Licence:
    """A licence as a header gives it; text that SPDX does not know is kept as written, with no SPDX form."""
    if not isinstance(written, str) or not written.strip():
        return Licence(written=None, spdx=None)
    text = written.strip()[:MAX_CHARS]
    return Licence(written=text, spdx=_parse(text))


def is_allowed(licence: Licence, allowed: Collection[str]) -> bool | None:
    """Whether a policy of SPDX identifiers allows a licence; None when the file gives none that SPDX knows.

    ``A OR B`` is allowed when either is, ``A AND B`` when both are.
    """
    if licence.spdx is None:
        return None
    expression = _spdx().parse(licence.spdx)
    names = {name.lower() for name in allowed}
    return _holds(expression, names)


def check_policy(allowed: Collection[str]) -> None:
    """Refuse a policy that names what SPDX does not know.

    Raises
    ------
    InputError
        An identifier is unknown.
    """
    for name in allowed:
        if _parse(name) is None:
            raise InputError(
                f'"{name}" is not an SPDX licence', "allowed licences", "Write SPDX identifiers, such as MIT."
            )


def _holds(expression: Any, names: set[str]) -> bool:
    if expression.isliteral:
        return str(expression).lower() in names
    parts = [_holds(part, names) for part in expression.args]
    return any(parts) if expression.operator.strip() == "OR" else all(parts)


def _parse(text: str) -> str | None:
    from license_expression import ExpressionError, ExpressionParseError  # noqa: PLC0415

    try:
        info = _spdx().validate(text)
        return None if info.errors else str(_spdx().parse(text))
    except (ExpressionError, ExpressionParseError, ValueError, AttributeError, TypeError, RecursionError):
        return None


class WeightsFormat(msgspec.Struct, frozen=True, kw_only=True):
    """One format of weights files."""

    name: str
    title: str  # as messages write it
    endings: tuple[str, ...]  # of the file that names a model in a folder
    joins_shards: bool = False  # any shard of a split model names it; else an index does
    matches: Callable[[Path, bytes], bool]  # whether a path, whose file begins with these bytes, is of this format
    read: Callable[[Path], ModelFacts]
