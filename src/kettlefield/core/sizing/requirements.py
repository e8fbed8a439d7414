"""What a model needs and how fast it could be, by arithmetic from its shape alone."""

from collections.abc import Sequence

import msgspec

OVERHEAD_BASE_BYTES = 256 * 2**20
OVERHEAD_SHARE = 0.02
OVERHEAD_RULE = "working overhead: 256 MiB plus 2 % of the weights, a rule of thumb shown apart"
KV_BITS = (16, 8, 4)
# sixteenths of a byte that a key or value element takes: quantised ones come in blocks of 32 with a scale of 16 bits,
# so 8 bits are 8.5 and 4 bits are 4.5
_ELEMENT_SIXTEENTHS = {16: 32, 8: 17, 4: 9}


class CacheLayer(msgspec.Struct, frozen=True, kw_only=True):
    """What one layer keeps for each token it remembers."""

    kv_heads: int
    key_size: int  # elements a head
    value_size: int
    window_tokens: int | None = None  # remembers no more than this; None: the whole context


class ModelShape(msgspec.Struct, frozen=True, kw_only=True):
    """All of a model that sizing needs."""

    weights_bytes: int
    cache_layers: tuple[CacheLayer, ...]  # layers that keep a cache of their own; shared ones are left out
    layers: int
    layer_bytes: int  # weights inside layers; the rest are embeddings, output and norms
    read_bytes: int  # weights read for one token: experts that rest and the input table are left out


class MemoryNeed(msgspec.Struct, frozen=True, kw_only=True):
    """Memory of a model under one setting, in bytes."""

    context_tokens: int
    kv_bits: int
    parallel: int
    weights_bytes: int
    kv_bytes: int
    overhead_bytes: int

    @property
    def total_bytes(self) -> int:
        """All three together."""
        return self.weights_bytes + self.kv_bytes + self.overhead_bytes


class LearnedOverhead(msgspec.Struct, frozen=True, kw_only=True):
    """What one server took beside weights and KV cache on one rig."""

    server: str
    overhead_bytes: int  # at that context
    context_tokens: int
    per_token_bytes: float  # growth with the context beyond what the header predicts; 0: none was seen
    learned_from: str  # candidate
    at: float  # seconds since the epoch

    def at_context(self, context_tokens: int) -> int:
        """At another context, in bytes."""
        return max(0, round(self.overhead_bytes + self.per_token_bytes * (context_tokens - self.context_tokens)))


def kv_bytes_per_token(shape: ModelShape, *, kv_bits: int = 16) -> int:
    """Bytes that one more token of context adds while every window still has room.

    Parameters
    ----------
    shape : ModelShape
        The model.
    kv_bits : int
        Bits of one key or value element, above 0, without its share of a block's scale; that is counted.
    """
    elements = sum(layer.kv_heads * (layer.key_size + layer.value_size) for layer in shape.cache_layers)
    return elements * _sixteenths(kv_bits) // 16


def _sixteenths(kv_bits: int) -> int:
    return _ELEMENT_SIXTEENTHS.get(kv_bits, 2 * kv_bits)


def kv_bytes(shape: ModelShape, context_tokens: int, *, kv_bits: int = 16, parallel: int = 1) -> int:
    """Bytes of the key/value cache: over layers, heads x (key + value) x remembered tokens x element bytes.

    Raises
    ------
    ValueError
        A count is not above 0.
    """
    if min(context_tokens, kv_bits, parallel) < 1:
        raise ValueError(f"context_tokens={context_tokens}, kv_bits={kv_bits}, parallel={parallel}: wanted above 0")
    elements = 0
    for layer in shape.cache_layers:
        remembered = min(context_tokens, layer.window_tokens or context_tokens)
        elements += layer.kv_heads * (layer.key_size + layer.value_size) * remembered
    return elements * parallel * _sixteenths(kv_bits) // 16


def memory_need(
    shape: ModelShape,
    context_tokens: int,
    *,
    kv_bits: int = 16,
    parallel: int = 1,
    overhead_bytes: int | None = None,
) -> MemoryNeed:
    """Weights, cache and overhead under one setting; the last, where it is not known, by ``OVERHEAD_RULE``."""
    by_rule = OVERHEAD_BASE_BYTES + round(OVERHEAD_SHARE * shape.weights_bytes)
    return MemoryNeed(
        context_tokens=context_tokens,
        kv_bits=kv_bits,
        parallel=parallel,
        weights_bytes=shape.weights_bytes,
        kv_bytes=kv_bytes(shape, context_tokens, kv_bits=kv_bits, parallel=parallel),
        overhead_bytes=by_rule if overhead_bytes is None else overhead_bytes,
    )


def largest_context(
    shape: ModelShape,
    budget_bytes: int,
    *,
    most_tokens: int,
    kv_bits: int = 16,
    parallel: int = 1,
    overhead_bytes: int | None = None,
) -> int | None:
    """The longest context that fits a budget, at most ``most_tokens``; None when not even one token does."""
    low, high = 0, most_tokens
    while low < high:  # the need never falls as the context grows, so halving finds the edge
        middle = (low + high + 1) // 2
        need = memory_need(shape, middle, kv_bits=kv_bits, parallel=parallel, overhead_bytes=overhead_bytes)
        if need.total_bytes <= budget_bytes:
            low = middle
        else:
            high = middle - 1
    return low or None


def layers_that_fit(shape: ModelShape, need: MemoryNeed, budget_bytes: int) -> int:
    """How many layers, with their share of the cache, fit an accelerator of that much memory.

    What lies outside the layers stays on the host; the overhead is counted on the accelerator.
    """
    if shape.layers == 0:
        return 0
    per_layer = (shape.layer_bytes + need.kv_bytes) / shape.layers
    room = budget_bytes - need.overhead_bytes
    return max(0, min(shape.layers, int(room // per_layer)))


def decode_ceiling_tps(shape: ModelShape, bandwidth_bytes_s: float, depth_tokens: int, *, kv_bits: int = 16) -> float:
    """The most tokens a second that one stream can decode: bandwidth over the bytes that a token must read.

    Parameters
    ----------
    shape : ModelShape
        The model.
    bandwidth_bytes_s : float
        Memory reads, bytes a second, above 0.
    depth_tokens : int
        Tokens in the cache, 0 or more.
    kv_bits : int
        Bits of one key or value element.

    Source
    ------
    The memory side of the roofline model: Williams, Waterman and Patterson (2009),
    Communications of the ACM 52(4), 65-76.
    """
    read = shape.read_bytes + (kv_bytes(shape, depth_tokens, kv_bits=kv_bits) if depth_tokens else 0)
    return bandwidth_bytes_s / read


def window_pattern(layers: int, window_tokens: int | None, full_every: int | Sequence[bool] | None) -> list[int | None]:
    """The window of each layer; None remembers everything.

    Parameters
    ----------
    layers : int
        Number of layers.
    window_tokens : int or None
        The window's width; None: no layer has one.
    full_every : int, sequence of bool or None
        Every n-th layer remembers everything; or for each layer whether it has the window; None: all have it.
    """
    if window_tokens is None:
        return [None] * layers
    if full_every is None:
        return [window_tokens] * layers
    if isinstance(full_every, int):
        return [None if full_every > 0 and (i + 1) % full_every == 0 else window_tokens for i in range(layers)]
    return [window_tokens if i < len(full_every) and full_every[i] else None for i in range(layers)]
