"""The forward pass with its KV cache, and the choice of the next token.

Decoder-only transformer: RMSNorm before each part (Zhang and Sennrich 2019), rotary positions (Su et al. 2021)
that turn the first half of a head against the second, grouped-query attention (Ainslie et al. 2023), a
feed-forward gated by SiLU (Shazeer 2020), embeddings that are the output matrix too.
"""

from collections.abc import Sequence
from typing import Literal, Protocol

import msgspec
import numpy as np
import numpy.typing as npt

from kettlefield.demo.little.blocks import Floats
from kettlefield.demo.little.little_weights import Shape, Weights

CacheBits = Literal[32, 16, 8]


class Cache:
    """One slot's memory; what is behind ``length`` is forgotten."""

    def __init__(self, shape: Shape, context_tokens: int, bits: CacheBits) -> None:
        size = (shape.layers, shape.kv_heads, context_tokens, shape.head_size)
        self._keys, self._values = _store(size, bits), _store(size, bits)
        self.length = 0  # tokens whose keys and values are there

    @property
    def size_bytes(self) -> int:
        """What it takes, filled or not."""
        return self._keys.size_bytes + self._values.size_bytes

    def extend(self, layer: int, keys: Floats, values: Floats) -> tuple[Floats, Floats]:
        """Write new tokens behind ``length``, and read all up to and with them.

        Parameters
        ----------
        layer : int
            From 0.
        keys, values : (kv heads, tokens, head size) array
            Of the new tokens. ``length`` is moved on by whoever has done all layers.
        """
        end = self.length + keys.shape[1]
        self._keys.write(layer, self.length, keys)
        self._values.write(layer, self.length, values)
        return self._keys.read(layer, end), self._values.read(layer, end)


class _Store(Protocol):
    size_bytes: int

    def write(self, layer: int, start: int, numbers: Floats) -> None: ...

    def read(self, layer: int, end: int) -> Floats: ...


def _store(size: tuple[int, int, int, int], bits: CacheBits) -> _Store:
    return _Bytes(size) if bits == 8 else _Floats(size, bits)


class _Floats:
    """16-bit floats, or 32-bit ones."""

    def __init__(self, size: tuple[int, int, int, int], bits: Literal[32, 16]) -> None:
        self._held = np.ones(size, np.float16 if bits == 16 else np.float32)  # written: the memory is taken now
        self.size_bytes = self._held.nbytes

    def write(self, layer: int, start: int, numbers: Floats) -> None:
        self._held[layer, :, start : start + numbers.shape[1]] = numbers

    def read(self, layer: int, end: int) -> Floats:
        return self._held[layer, :, :end].astype(np.float32)


class _Bytes:
    """Signed bytes with a 16-bit scale for each token of a head."""

    def __init__(self, size: tuple[int, int, int, int]) -> None:
        self._codes = np.ones(size, np.int8)
        self._scales = np.ones((*size[:3], 1), np.float16)
        self.size_bytes = self._codes.nbytes + self._scales.nbytes

    def write(self, layer: int, start: int, numbers: Floats) -> None:
        end = start + numbers.shape[1]
        scale = (np.abs(numbers).max(-1, keepdims=True) / 127).astype(np.float16)
        safe = np.where(scale == 0, 1, scale.astype(np.float32))
        self._codes[layer, :, start:end] = np.clip(np.rint(numbers / safe), -127, 127)
        self._scales[layer, :, start:end] = scale

    def read(self, layer: int, end: int) -> Floats:
        return np.multiply(self._codes[layer, :, :end], self._scales[layer, :, :end], dtype=np.float32)


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
        ends = np.cumsum([len(own) for _, own in feeds])
        return self._scored(self._read(feeds, ends)[ends - 1])

    def score(self, cache: Cache, tokens: Sequence[int]) -> Floats:
        """Read tokens into an empty memory.

        Returns
        -------
        (tokens, vocabulary) array
            At each place the scores of the token that follows.

        Raises
        ------
        ValueError
            They go beyond the context.
        """
        return self._scored(self._read([(cache, tokens)], np.array([len(tokens)])))

    def _scored(self, x: Floats) -> Floats:
        return self._times(self._normed(x, "output_norm"), "token_embd")

    def _read(self, feeds: Sequence[Feed], ends: npt.NDArray[np.int64]) -> Floats:
        """What the last layer gives at every place of every stream."""
        tokens = np.array([token for _, own in feeds for token in own])
        places = np.concatenate([np.arange(cache.length, cache.length + len(own)) for cache, own in feeds])
        if places.max() >= self.shape.context_tokens:
            raise ValueError(f"place {places.max()} is beyond the context of {self.shape.context_tokens} tokens")
        turn = self._cos[places][:, None], self._sin[places][:, None]
        x = self._weights.matrices["token_embd.weight"].rows(tokens)
        for layer in range(self.shape.layers):
            x += self._attended(layer, self._normed(x, f"blk.{layer}.attn_norm"), turn, feeds, ends)
            x += self._fed_forward(layer, self._normed(x, f"blk.{layer}.ffn_norm"))
        for cache, own in feeds:
            cache.length += len(own)
        return x

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


class Sampling(msgspec.Struct, frozen=True, kw_only=True):
    """How tokens are drawn; applied in the order of the fields."""

    repeat_penalty: float = 1.0  # scores of tokens written lately are divided by it, or multiplied where below 0
    temperature: float = 1.0  # 0: always the likeliest
    top_k: int = 0  # only this many of the likeliest; 0: all
    top_p: float = 1.0  # only the likeliest that together have this probability
    min_p: float = 0.0  # only those with this share of the likeliest's probability
    seed: int = 0

    def fault(self) -> str | None:
        """What is wrong with the settings; None when nothing is."""
        right = {  # asked this way round, so that what is not a number is wrong
            "repeat_penalty": 0.01 <= self.repeat_penalty <= 100,
            "temperature": 0 <= self.temperature <= 100,
            "top_k": self.top_k >= 0,
            "top_p": 0 < self.top_p <= 1,
            "min_p": 0 <= self.min_p < 1,
            "seed": 0 <= self.seed < 1 << 63,
        }
        name = next((name for name, is_right in right.items() if not is_right), None)
        return f"{name} is {getattr(self, name)}, out of its range" if name is not None else None


LATELY_TOKENS = 64  # that the repeat penalty looks back at


class Sampler:
    """Draws one stream's tokens; the same seed and scores always give the same."""

    def __init__(self, settings: Sampling) -> None:
        self._settings = settings
        self._rng = np.random.default_rng(settings.seed)

    def pick(self, scores: Floats, written: Sequence[int]) -> int:
        """The next token.

        Parameters
        ----------
        scores : (vocabulary,) array
            As the network gives them; left as they are.
        written : sequence of int
            The reply so far.
        """
        settings = self._settings
        scores = _penalised(scores, written[-LATELY_TOKENS:], settings.repeat_penalty)
        if settings.temperature == 0:
            return int(scores.argmax())
        chances = likelihoods(scores, settings)
        return int(self._rng.choice(len(chances), p=chances))


def likelihoods(scores: Floats, settings: Sampling) -> npt.NDArray[np.float64]:
    """Probability of each token once temperature, top-k, top-p and min-p have been applied in this order."""
    below = (scores - scores.max()).astype(np.float64)
    with np.errstate(over="ignore"):  # at a temperature near 0, far below is as good as never
        chances = np.exp(below / settings.temperature)
    if settings.top_k and settings.top_k < len(chances):
        chances[np.argsort(-chances, kind="stable")[settings.top_k :]] = 0
    chances /= chances.sum()
    if settings.top_p < 1:
        order = np.argsort(-chances, kind="stable")
        before = np.cumsum(chances[order]) - chances[order]
        chances[order[before >= settings.top_p]] = 0  # the one that reaches the share stays
    chances[chances < settings.min_p * chances.max()] = 0
    shares: npt.NDArray[np.float64] = chances / chances.sum()
    return shares


def _penalised(scores: Floats, lately: Sequence[int], penalty: float) -> Floats:
    if penalty == 1 or not lately:
        return scores
    scores, seen = scores.copy(), list(set(lately))
    scores[seen] = np.where(scores[seen] > 0, scores[seen] / penalty, scores[seen] * penalty)
    return scores
