"""Choosing the next token from its scores."""

from collections.abc import Sequence

import msgspec
import numpy as np
import numpy.typing as npt

from kettlefield.standin.little.blocks import Floats


class Sampling(msgspec.Struct, frozen=True, kw_only=True):
    """How tokens are drawn; applied in the order of the fields."""

    repeat_penalty: float = 1.0  # scores of tokens written lately are divided by it, or multiplied where below 0
    temperature: float = 1.0  # 0: always the likeliest
    top_k: int = 0  # only so many of the likeliest; 0: all
    top_p: float = 1.0  # only the likeliest that together have this probability
    min_p: float = 0.0  # only those with this share of the likeliest's probability
    seed: int = 0

    def fault(self) -> str | None:
        """What is wrong with the settings; None when nothing is."""
        right = {  # asked this way round, so that what is no number is wrong
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
    found: npt.NDArray[np.float64] = chances / chances.sum()
    return found


def _penalised(scores: Floats, lately: Sequence[int], penalty: float) -> Floats:
    if penalty == 1 or not lately:
        return scores
    scores, seen = scores.copy(), list(set(lately))
    scores[seen] = np.where(scores[seen] > 0, scores[seen] / penalty, scores[seen] * penalty)
    return scores
