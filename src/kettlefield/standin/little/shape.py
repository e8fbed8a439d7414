"""The sizes of the little model."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Shape:
    """How large each part is."""

    vocabulary: int
    width: int
    layers: int
    heads: int
    kv_heads: int
    head_size: int
    feed_forward: int
    context_tokens: int
    rotary_base: float
    epsilon: float  # of the norms
