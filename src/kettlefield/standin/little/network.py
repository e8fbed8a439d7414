"""The forward pass: tokens of several streams in, the scores of each stream's next token out.

Decoder-only transformer: RMSNorm before each part (Zhang and Sennrich 2019), rotary positions (Su et al. 2021)
that turn the first half of a head against the second, grouped-query attention (Ainslie et al. 2023), a
feed-forward gated by SiLU (Shazeer 2020), embeddings that are the output matrix too.
"""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from kettlefield.standin.little.blocks import Floats
from kettlefield.standin.little.cache import Cache
from kettlefield.standin.little.weights import Weights

Feed = tuple[Cache, Sequence[int]]  # a stream's memory, and the tokens that it reads next


class Network:
    """Runs a model's weights."""

    def __init__(self, weights: Weights) -> None:
        self._weights = weights
        self.shape = weights.shape
        half = self.shape.head_size // 2
        speed = self.shape.rotary_base ** (-np.arange(half) / half)
        angles = np.outer(np.arange(self.shape.context_tokens), speed)
        self._cos, self._sin = np.cos(angles).astype(np.float32), np.sin(angles).astype(np.float32)

    def advance(self, feeds: Sequence[Feed]) -> Floats:
        """Read each stream's tokens into its memory; one unpacking of a matrix serves all streams.

        Parameters
        ----------
        feeds : sequence of (Cache, tokens)
            At least one token each, within the context.

        Returns
        -------
        (feeds, vocabulary) array
            Scores of the token that follows each stream's last one.

        Raises
        ------
        ValueError
            A stream would go beyond the context.
        """
        tokens = np.array([token for _, own in feeds for token in own])
        places = np.concatenate([np.arange(cache.length, cache.length + len(own)) for cache, own in feeds])
        if places.max() >= self.shape.context_tokens:
            raise ValueError(f"place {places.max()} is beyond the context of {self.shape.context_tokens} tokens")
        ends = np.cumsum([len(own) for _, own in feeds])
        turn = self._cos[places][:, None], self._sin[places][:, None]
        x = self._weights.matrices["token_embd.weight"].rows(tokens)
        for layer in range(self.shape.layers):
            x += self._attended(layer, self._normed(x, f"blk.{layer}.attn_norm"), turn, feeds, ends)
            x += self._fed_forward(layer, self._normed(x, f"blk.{layer}.ffn_norm"))
        for cache, own in feeds:
            cache.length += len(own)
        return self._times(self._normed(x[ends - 1], "output_norm"), "token_embd")

    def _times(self, x: Floats, name: str) -> Floats:
        return self._weights.matrices[f"{name}.weight"].times(x)

    def _normed(self, x: Floats, name: str) -> Floats:
        mean = np.einsum("ij,ij->i", x, x)[:, None] / x.shape[1]
        normed: Floats = x / np.sqrt(mean + np.float32(self.shape.epsilon)) * self._weights.norms[f"{name}.weight"]
        return normed

    def _fed_forward(self, layer: int, x: Floats) -> Floats:
        gate = self._times(x, f"blk.{layer}.ffn_gate")
        gate /= 1 + np.exp(-gate)
        return self._times(gate * self._times(x, f"blk.{layer}.ffn_up"), f"blk.{layer}.ffn_down")

    def _attended(
        self,
        layer: int,
        x: Floats,
        turn: tuple[Floats, Floats],
        feeds: Sequence[Feed],
        ends: npt.NDArray[np.intp],
    ) -> Floats:
        size = self.shape.head_size
        asked, keys, values = (
            self._times(x, f"blk.{layer}.attn_{part}").reshape(len(x), -1, size) for part in ("q", "k", "v")
        )
        asked, keys = _turned(asked, *turn), _turned(keys, *turn)
        out = np.empty((len(x), self.shape.heads * size), np.float32)
        for (cache, own), end in zip(feeds, ends, strict=True):
            mine = slice(end - len(own), end)
            known, meant = cache.extend(layer, keys[mine].transpose(1, 0, 2), values[mine].transpose(1, 0, 2))
            out[mine] = _looked_up(asked[mine], known, meant)
        return self._times(out, f"blk.{layer}.attn_output")


def _turned(x: Floats, cos: Floats, sin: Floats) -> Floats:
    """Tokens x heads x head size, turned by where each token stands."""
    half = x.shape[-1] // 2
    a, b = x[..., :half], x[..., half:]
    return np.concatenate((a * cos - b * sin, b * cos + a * sin), axis=-1)


def _looked_up(asked: Floats, keys: Floats, values: Floats) -> Floats:
    """Attention of one stream's new tokens over all that it has read.

    Parameters
    ----------
    asked : (new tokens, heads, head size) array
        Of the new tokens.
    keys, values : (kv heads, all tokens, head size) array
        Several heads share one of these.

    Returns
    -------
    (new tokens, heads x head size) array
    """
    new, heads, size = asked.shape
    kv_heads, length, _ = keys.shape
    grouped = asked.reshape(new, kv_heads, heads // kv_heads, size).transpose(1, 2, 0, 3).reshape(kv_heads, -1, size)
    scores: Floats = grouped @ keys.transpose(0, 2, 1)
    scores *= size**-0.5
    if new > 1:  # a token sees itself and what came before it
        hidden = np.arange(length)[None, :] > np.arange(length - new, length)[:, None]
        scores.reshape(kv_heads, -1, new, length)[:, :, hidden] = -np.inf
    scores -= scores.max(-1, keepdims=True)
    np.exp(scores, out=scores)
    scores /= scores.sum(-1, keepdims=True)
    seen = (scores @ values).reshape(kv_heads, heads // kv_heads, new, size)
    return seen.transpose(2, 0, 1, 3).reshape(new, heads * size)
