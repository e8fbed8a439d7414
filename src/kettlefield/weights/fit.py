"""Weights compared with a memory budget: what each setting requires, what fits, how fast it could be."""

from collections.abc import Sequence

import msgspec

from kettlefield.core.sizing.requirements import (
    KV_BITS,
    LearnedOverhead,
    MemoryNeed,
    decode_ceiling_tps,
    largest_context,
    layers_that_fit,
    memory_need,
)
from kettlefield.weights.facts import ModelFacts

DEFAULT_CONTEXTS = (4096, 16384)


class Settings(msgspec.Struct, frozen=True, kw_only=True):
    """Under which settings to weigh."""

    contexts: tuple[int, ...] = DEFAULT_CONTEXTS
    kv_bits: tuple[int, ...] = KV_BITS
    parallel: tuple[int, ...] = (1,)
    budget_bytes: int | None = None
    bandwidth_bytes_s: float | None = None
    overhead_bytes: int | None = None  # what the server takes beside weights and cache; None: learned, or by the rule
    learned: LearnedOverhead | None = None  # from campaigns with this server; None: the rule of thumb holds

    def overhead_at(self, context_tokens: int) -> int | None:
        """What the server takes beside weights and cache at a context; None: by the rule of thumb."""
        if self.overhead_bytes is not None or self.learned is None:
            return self.overhead_bytes
        return self.learned.at_context(context_tokens)


class Fit(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement compared with the budget; None where there is no budget."""

    need: MemoryNeed
    fits: bool | None
    layers_on: int | None  # layers that fit when not all does
    beyond_window: bool  # the context is longer than the model's own


class Weighed(msgspec.Struct, frozen=True, kw_only=True):
    """One file with its needs."""

    facts: ModelFacts
    fits: tuple[Fit, ...]
    largest_context: int | None  # with the first kv_bits and parallel; None: not even one token, or not known
    ceiling_tps: float | None  # decode rate that bandwidth allows with an empty cache


def weigh(facts: ModelFacts, settings: Settings) -> Weighed:
    """Hold one model against a budget under every combination of settings."""
    shape = facts.shape()
    fits = []
    for context in settings.contexts:
        for bits in settings.kv_bits:
            for parallel in settings.parallel:
                need = memory_need(
                    shape, context, kv_bits=bits, parallel=parallel, overhead_bytes=settings.overhead_at(context)
                )
                fits.append(_fit(facts, need, settings.budget_bytes))
    longest = None
    if settings.budget_bytes is not None and facts.context_tokens and facts.kv_heads:
        longest = largest_context(
            shape,
            settings.budget_bytes,
            most_tokens=facts.context_tokens,
            kv_bits=settings.kv_bits[0],
            parallel=settings.parallel[0],
            # that of the longest one: it grows with the context, if at all
            overhead_bytes=settings.overhead_at(facts.context_tokens),
        )
    ceiling = decode_ceiling_tps(shape, settings.bandwidth_bytes_s, 0) if settings.bandwidth_bytes_s else None
    return Weighed(facts=facts, fits=tuple(fits), largest_context=longest, ceiling_tps=ceiling)


def weigh_all(models: Sequence[ModelFacts], settings: Settings) -> tuple[Weighed, ...]:
    """Each model in turn."""
    return tuple(weigh(facts, settings) for facts in models)


def _fit(facts: ModelFacts, need: MemoryNeed, budget_bytes: int | None) -> Fit:
    fits = need.total_bytes <= budget_bytes if budget_bytes is not None else None
    layers = None
    if fits is False and budget_bytes is not None:
        layers = layers_that_fit(facts.shape(), need, budget_bytes)
    beyond = facts.context_tokens is not None and need.context_tokens > facts.context_tokens
    return Fit(need=need, fits=fits, layers_on=layers, beyond_window=beyond)
