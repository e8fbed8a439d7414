"""What next-token distributions tell of a model and of what quantisation took: perplexity, agreement, divergence.

All figures are over positions of fixed texts (teacher forcing). Texts are clusters: positions of one text resemble each
other, so intervals are those of a ratio of sums over texts (Cochran 1977, section 6.3), on Student's t with one degree
of freedom fewer than texts.
"""

import math
from collections.abc import Callable, Mapping, Sequence

import msgspec
import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate

TAIL, RESAMPLES = 0.99, 400
LEAST_MASS = 1e-12  # of what a served list leaves over; rounding can make it less than nothing


class Position(msgspec.Struct, frozen=True):
    """One place of a text: the token that stands there, and how likely the model holds it and others."""

    token: str
    logprob: float | None  # natural logarithm; none: the server does not tell that of the text's own token
    top: Mapping[str, float]  # the likeliest tokens that the server lists, with their log-probabilities


class ScoredText(msgspec.Struct, frozen=True, kw_only=True):
    """One text as one model sees it."""

    id: str
    language: str
    size_bytes: int  # of the part that is scored, in UTF-8
    positions: tuple[Position, ...]


def perplexity(texts: Sequence[ScoredText], *, confidence: float = 0.95) -> Estimate | None:
    """``exp`` of the mean negative log-likelihood of a token; compares levels of one model, never two tokenizers."""
    return _exponential(_ratio(texts, _surprise, lambda text: len(text.positions), confidence))


def perplexity_per_byte(texts: Sequence[ScoredText], *, confidence: float = 0.95) -> Estimate | None:
    """``exp`` of the negative log-likelihood of a byte of text; compares models whatever their tokens are."""
    return _exponential(_ratio(texts, _surprise, lambda text: text.size_bytes, confidence))


class Pairing(msgspec.Struct, frozen=True, kw_only=True):
    """A candidate beside its reference on the texts that both cut into the same tokens."""

    texts: int
    positions: int
    top1_agreement: Estimate | None  # share of positions at which both hold the same token likeliest
    kl_divergence: Estimate | None  # mean, in nats, from the reference to the candidate; a lower bound
    kl_p99: Estimate | None  # 99th percentile over positions; its interval by resampling texts
    unlike: int  # texts that the two cut into other tokens


def pair_up(
    reference: Sequence[ScoredText],
    candidate: Sequence[ScoredText],
    *,
    confidence: float = 0.95,
    are_replies: bool = False,
    resamples: int = RESAMPLES,
) -> Pairing:
    """Agreement and divergence at equal positions.

    Parameters
    ----------
    reference, candidate : sequence of ScoredText
        Of the same texts, told apart by their ids; one that only one of them has is left out.
    confidence : float
        Two-sided, of the intervals.
    are_replies : bool
        The texts are each one's own replies: positions count up to the first at which the two wrote another token,
        that one included. Until there, both had the same before them.
    resamples : int
        For the interval of the percentile; 0: it gets none.
    """
    mine = {text.id: text for text in candidate}
    both = [(text, mine[text.id]) for text in reference if text.id in mine]
    cut = (
        [(a.positions[: _common(a, b)], b.positions[: _common(a, b)]) for a, b in both]
        if are_replies
        else [(a.positions, b.positions) for a, b in both]
    )
    same = [(a, b) for a, b in cut if are_replies or [p.token for p in a] == [p.token for p in b]]
    agreed, diverged, counts = [], [], []
    for a, b in same:
        pairs = [(p, q) for p, q in zip(a, b, strict=True) if p.top and q.top]
        if pairs:
            agreed.append(float(sum(_likeliest(p) == _likeliest(q) for p, q in pairs)))
            diverged.append([kl_lower_bound(p.top, q.top) for p, q in pairs])
            counts.append(float(len(pairs)))
    flat = [value for values in diverged for value in values]
    return Pairing(
        texts=len(counts),
        positions=len(flat),
        top1_agreement=_of_sums(agreed, counts, confidence, within=(0.0, 1.0)),
        kl_divergence=_of_sums([sum(values) for values in diverged], counts, confidence, within=(0.0, math.inf)),
        kl_p99=_tail(diverged, confidence, resamples),
        unlike=len(both) - len(same),
    )


def _common(reference: ScoredText, candidate: ScoredText) -> int:
    """Positions of two replies until they part, the one at which they do included."""
    pairs = list(zip(reference.positions, candidate.positions, strict=False))
    return next((place + 1 for place, (p, q) in enumerate(pairs) if p.token != q.token), len(pairs))


def _tail(by_text: Sequence[Sequence[float]], confidence: float, resamples: int) -> Estimate | None:
    """The 99th percentile of all positions, with the percentile interval of the bootstrap over texts.

    Texts are drawn, not positions (Davison and Hinkley 1997, section 3.8): those of one text resemble each other. A
    tail's bootstrap is rough; with few texts its upper end is no more than the largest text's own tail.
    """
    held = [np.asarray(values) for values in by_text if len(values)]
    if not held:
        return None
    value = float(np.quantile(np.concatenate(held), TAIL))
    if len(held) < 2 or not resamples:
        return Estimate(value=value, low=None, high=None, n=len(held))
    rng = np.random.default_rng(0)
    draws = rng.integers(len(held), size=(resamples, len(held)))
    tails = [np.quantile(np.concatenate([held[text] for text in draw]), TAIL) for draw in draws]
    low, high = np.quantile(tails, [0.5 - confidence / 2, 0.5 + confidence / 2])
    return Estimate(value=value, low=float(low), high=float(high), n=len(held))


def kl_lower_bound(reference: Mapping[str, float], candidate: Mapping[str, float]) -> float:
    """Kullback-Leibler divergence, in nats, over the tokens that both lists hold, everything else as one lump.

    By the log-sum inequality (Cover and Thomas 2006, theorem 2.7.1) lumping never makes it larger: a lower bound of the
    divergence over the whole vocabulary. Lists are not made to add up to 1.

    Parameters
    ----------
    reference, candidate : mapping of str to float
        Token -> log-probability, as served.
    """
    shared = [token for token in reference if token in candidate]
    p = [math.exp(reference[token]) for token in shared]
    inside = sum(mass * (reference[token] - candidate[token]) for token, mass in zip(shared, p, strict=True))
    rest_p = max(0.0, 1.0 - sum(p))
    rest_q = max(LEAST_MASS, 1.0 - sum(math.exp(candidate[token]) for token in shared))
    lump = rest_p * math.log(rest_p / rest_q) if rest_p > LEAST_MASS else 0.0
    return max(0.0, inside + lump)


def _likeliest(position: Position) -> str:
    return max(position.top, key=lambda token: (position.top[token], token))


def _surprise(text: ScoredText) -> float:
    return -sum(position.logprob or 0.0 for position in text.positions)


def _ratio(
    texts: Sequence[ScoredText],
    above: Callable[[ScoredText], float],
    below: Callable[[ScoredText], float],
    confidence: float,
) -> Estimate | None:
    known = [text for text in texts if text.positions and all(one.logprob is not None for one in text.positions)]
    return _of_sums([above(text) for text in known], [float(below(text)) for text in known], confidence)


def _of_sums(
    above: Sequence[float],
    below: Sequence[float],
    confidence: float,
    within: tuple[float, float] = (-math.inf, math.inf),
) -> Estimate | None:
    """The ratio of two sums over clusters, with its interval inside the scale; one cluster alone bounds nothing."""
    total = sum(below)
    if not total:
        return None
    value, m = sum(above) / total, len(above)
    if m < 2:
        return Estimate(value=value, low=None, high=None, n=m)
    residuals = np.asarray(above) - value * np.asarray(below)
    error = math.sqrt(m / (m - 1) * float(np.square(residuals).sum())) / total
    reach = float(scipy.special.stdtrit(m - 1, 0.5 + confidence / 2)) * error
    return Estimate(value=value, low=max(within[0], value - reach), high=min(within[1], value + reach), n=m)


def _exponential(estimate: Estimate | None) -> Estimate | None:
    if estimate is None:
        return None
    low, high = (None if bound is None else math.exp(bound) for bound in (estimate.low, estimate.high))
    return Estimate(value=math.exp(estimate.value), low=low, high=high, n=estimate.n)
