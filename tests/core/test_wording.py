"""Figures in words: scale, interval, sample size; every expected text is written by hand."""

import string

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.extraction.code_text import first_difference, same_code
from kettlefield.core.statistics.estimate import Estimate, in_unit, in_words, interval_words, p_words, with_interval
from kettlefield.core.units import Unit
from kettlefield.core.values import changes_between
from kettlefield.decision.measures import MEASURES


def estimate(value, low, high, n=12):
    return Estimate(value=value, low=low, high=high, n=n)


@pytest.mark.parametrize(
    ("value", "unit", "words"),
    [
        (None, Unit.SECONDS, "-"),
        (0.0325, Unit.SECONDS, "32.5 ms"),
        (32.5, Unit.SECONDS, "32.5 s"),
        (0.7249, Unit.RATIO, "0.72"),
        (1536, Unit.BYTES, "1.50 KiB"),
        (3 * 2**30, Unit.BYTES, "3.00 GiB"),
        (61.44, Unit.TOKENS_PER_SECOND, "61.4 tokens/s"),
        (2.5, Unit.REQUESTS_PER_SECOND, "2.50 requests/s"),
        (7, Unit.COUNT, "7 trials"),
        (18.04, Unit.JOULES, "18.0 J"),
    ],
)
def test_a_value_in_its_unit(value, unit, words):
    assert in_unit(value, unit) == words


@pytest.mark.parametrize(
    ("found", "unit", "interval", "whole"),
    [
        (estimate(0.0325, 0.0296, 0.0337), Unit.SECONDS, "29.6 to 33.7 ms", "32.5 (29.6 to 33.7) ms, n = 12"),
        # the value's scale is the interval's too, though its ends alone would be shown in another
        (estimate(1.2, 0.9, 1.4), Unit.SECONDS, "0.900 to 1.40 s", "1.20 (0.900 to 1.40) s, n = 12"),
        (estimate(0.5, 0.25, 0.75, n=8), Unit.RATIO, "0.25 to 0.75", "0.50 (0.25 to 0.75), n = 8"),
        (estimate(40.0, None, 44.0), Unit.TOKENS_PER_SECOND, "? to 44.0 tokens/s", "40.0 (? to 44.0) tokens/s, n = 12"),
        (estimate(40.0, None, None, n=1), Unit.TOKENS_PER_SECOND, "? to ? tokens/s", "40.0 tokens/s, n = 1"),
        (estimate(-0.19, -0.38, -0.02), Unit.RATIO, "-0.38 to -0.02", "-0.19 (-0.38 to -0.02), n = 12"),
    ],
)
def test_an_estimate_says_its_interval_and_its_size(found, unit, interval, whole):
    assert interval_words(found, unit) == interval
    assert in_words(found, unit) == whole
    assert whole.startswith(with_interval(found, unit))


def test_what_is_no_estimate_has_no_interval():
    assert (interval_words(0.5, Unit.RATIO), interval_words(None, Unit.RATIO)) == ("-", "-")
    assert in_words("is the reference level", Unit.RATIO) == "is the reference level"
    assert in_words(None, Unit.BYTES) == "-" and in_words(2048.0, Unit.BYTES) == "2.00 KiB"


@pytest.mark.parametrize(
    ("p", "words"), [(0.0, "< 0.001"), (0.00099, "< 0.001"), (0.001, "0.001"), (0.0449, "0.045"), (1.0, "1.000")]
)
def test_no_chance_is_ever_nothing(p, words):
    assert p_words(p) == words


def test_every_measure_says_what_measures_it_and_quantiles_name_their_field():
    for name, measure in MEASURES.items():
        assert measure.name == name and measure.needs and measure.meaning
        assert measure.at_depth == (measure.quantile is not None)
        if measure.quantile is not None:
            assert name.endswith(f".p{round(measure.quantile * 100)}")


TEXT = st.text(string.ascii_letters + " \n()=+", max_size=30)


@given(TEXT, TEXT)
def test_two_texts_agree_up_to_where_they_part_and_no_further(one, other):
    at = first_difference(one, other)
    if at is None:
        assert one == other
    else:
        assert one[:at] == other[:at] and one[at : at + 1] != other[at : at + 1]


@given(TEXT, TEXT)
def test_sameness_of_code_is_mutual_and_holds_for_itself(one, other):
    for name in ("a.py", "a.rs"):
        assert same_code({name: one}, {name: one})
        assert same_code({name: one}, {name: other}) == same_code({name: other}, {name: one})


PLAIN = st.recursive(
    st.integers() | st.booleans() | st.text(max_size=3),
    lambda inner: st.dictionaries(st.text(max_size=2), inner, max_size=3),
)


@given(PLAIN, PLAIN)
def test_states_that_are_equal_have_no_changes_and_others_have_some(then, now):
    found = changes_between(then, now)
    assert (found == ()) == (then == now)
    # told the other way round it is the same set of places
    assert {change.what for change in found} == {change.what for change in changes_between(now, then)}
