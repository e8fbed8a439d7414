"""Next-token statistics against known distributions and figures worked out by hand."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kettlefield.core.statistics.next_token import (
    Position,
    ScoredText,
    kl_lower_bound,
    pair_up,
    perplexity,
    perplexity_per_byte,
)


def text(name, *positions, size=10, language="python"):
    return ScoredText(id=name, language=language, size_bytes=size, positions=positions)


def at(token, chance, **others):
    top = {token: math.log(chance), **{name: math.log(share) for name, share in others.items()}}
    return Position(token, math.log(chance), top)


def test_perplexity_by_hand():
    texts = [text("a", at("x", 0.5), at("y", 0.125), size=4), text("b", at("z", 0.25), size=2)]
    # three tokens of 1, 3 and 2 bits, six bytes
    assert perplexity(texts).value == pytest.approx(2 ** (6 / 3), abs=1e-12)
    assert perplexity_per_byte(texts).value == pytest.approx(2 ** (6 / 6), abs=1e-12)
    assert perplexity([]) is None and perplexity([texts[0]]).low is None  # one text bounds nothing


def test_agreement_divergence_and_the_lump():
    # of the reference 0.7 and 0.2 are shared, the rest is a lump of 0.1 against 0.15
    p, q = at("x", 0.7, y=0.2, w=0.05), at("x", 0.6, y=0.25, v=0.1)
    kl = 0.7 * math.log(0.7 / 0.6) + 0.2 * math.log(0.2 / 0.25) + 0.1 * math.log(0.1 / 0.15)
    assert kl_lower_bound(p.top, q.top) == pytest.approx(kl, abs=1e-12)
    other = at("x", 0.3, y=0.6)
    pairing = pair_up([text("a", p, p), text("b", p)], [text("a", q, other), text("b", q), text("c", q)])
    assert (pairing.texts, pairing.positions, pairing.unlike) == (2, 3, 0)
    assert pairing.top1_agreement.value == pytest.approx(2 / 3)
    assert pairing.kl_divergence.value == pytest.approx((2 * kl + kl_lower_bound(p.top, other.top)) / 3)
    assert pairing.kl_p99.value > kl and pairing.kl_p99.low <= pairing.kl_p99.value
    cut = pair_up([text("a", p)], [text("a", at("xy", 0.9))])
    assert (cut.texts, cut.unlike, cut.kl_divergence) == (0, 1, None)
    whole = {"x": 0.0}
    assert kl_lower_bound(whole, whole) == 0 and kl_lower_bound({"x": -1.0}, {"y": -1.0}) == 0


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.floats(0.01, 1.0), min_size=4, max_size=12),
    st.lists(st.floats(0.01, 1.0), min_size=4, max_size=12),
    st.integers(1, 8),
)
def test_a_served_list_never_shows_more_than_the_whole_vocabulary(first, second, listed):
    size = min(len(first), len(second))
    p, q = (np.array(side[:size]) / sum(side[:size]) for side in (first, second))
    lists = [{str(n): math.log(side[n]) for n in np.argsort(-side)[:listed]} for side in (p, q)]
    assert kl_lower_bound(*lists) <= float(np.sum(p * np.log(p / q))) + 1e-9


def test_intervals_respect_texts_as_clusters():
    """Of 300 draws of 30 texts whose positions resemble each other, about 95 % cover the true mean surprise."""
    rng = np.random.default_rng(5)
    covered = 0
    for _ in range(300):
        texts = []
        for number in range(30):
            middle = rng.normal(1.0, 0.4)
            values = np.maximum(rng.normal(middle, 0.2, size=rng.integers(20, 60)), 0.0)
            texts.append(text(str(number), *(Position("x", -value, {}) for value in values)))
        found = perplexity(texts)
        covered += found.low <= math.exp(1.0) <= found.high
    assert 0.90 <= covered / 300 <= 0.99
