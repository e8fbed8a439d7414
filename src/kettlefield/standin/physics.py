"""How long a made-up model takes on a made-up card: bytes over bandwidth, operations over compute."""

from collections.abc import Sequence
from dataclasses import dataclass

from kettlefield.rig.simulated_card import CardFile
from kettlefield.standin.models import LoadedModel

STEP_OVERHEAD_S = 0.0004  # launching a step's work
OVERHEAD_BYTES = 160 * 2**20  # buffers that any server keeps


@dataclass(frozen=True, slots=True)
class Physics:
    """One model on one card."""

    model: LoadedModel
    card: CardFile

    def load_s(self) -> float:
        """Seconds to bring the weights into the card's memory."""
        return self.model.weight_bytes / self.card.load_bytes_s

    def memory_bytes(self, context_tokens: int, slots: int) -> int:
        """Bytes on the card: weights, the key/value cache of every slot at its full context, overhead."""
        cache = self.model.kv_bytes_per_token * context_tokens * slots
        return self.model.weight_bytes + cache + OVERHEAD_BYTES

    def prefill_s(self, prompt_tokens: int) -> float:
        """Seconds to read a prompt: two operations a parameter and token, or one pass over the weights."""
        compute_s = 2 * self.model.parameters * prompt_tokens / self.card.compute_flops
        return max(compute_s, self.model.weight_bytes / self.card.bandwidth_bytes_s) + STEP_OVERHEAD_S

    def step_s(self, depths_tokens: Sequence[int]) -> float:
        """Seconds for one decode step of all active slots: the weights once, each slot's cache, one overhead."""
        cache = self.model.kv_bytes_per_token * sum(depths_tokens)
        read_s = (self.model.weight_bytes + cache) / self.card.bandwidth_bytes_s
        compute_s = 2 * self.model.parameters * len(depths_tokens) / self.card.compute_flops
        return max(read_s, compute_s) + STEP_OVERHEAD_S
