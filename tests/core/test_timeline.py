"""Timeline figures from stamps made by hand."""

import pytest

from kettlefield.core.timing.timeline import TokenCount, Trace, quantile, read_figures


def trace(stamps, *, thinking=None, **counts):
    marks = tuple(thinking) if thinking is not None else (False,) * len(stamps)
    return Trace(stamps_s=tuple(stamps), thinking=marks, finished_s=(stamps[-1] if stamps else 0.2) + 0.1, **counts)


def test_rates_and_gaps_of_an_even_stream():
    found = read_figures(trace([0.5, 0.6, 0.7, 0.8, 0.9], prompt_tokens=100, completion_tokens=5))
    assert found.ttft_s == 0.5
    assert found.decode_tps == pytest.approx((5 - 1) / 0.4)
    assert found.prefill_tps == pytest.approx(200)
    assert (found.itl_p50_s, found.itl_max_s) == pytest.approx((0.1, 0.1))
    assert (found.token_count, found.packed) == (TokenCount.USAGE, False)


def test_without_usage_events_are_counted_and_marked():
    found = read_figures(trace([0.1, 0.2, 0.4]))
    assert (found.completion_tokens, found.token_count) == (3, TokenCount.EVENTS)
    assert found.decode_tps == pytest.approx(2 / 0.3)


def test_packed_events_use_the_usage_count():
    found = read_figures(trace([0.1, 0.2, 0.3], completion_tokens=12))
    assert found.packed
    # by hand: the first event's four tokens came before the clock
    assert found.decode_tps == pytest.approx(8 / 0.2)


def test_thinking_is_timed_apart():
    found = read_figures(trace([0.1, 0.2, 0.7], thinking=[True, True, False]))
    assert (found.ttft_s, found.answer_ttft_s) == (0.1, 0.7)
    only_thought = read_figures(trace([0.1], thinking=[True]))
    assert only_thought.answer_ttft_s is None


@pytest.mark.parametrize("stamps", [[], [0.3], [0.3, 0.3]])
def test_too_few_stamps_give_no_rate(stamps):
    found = read_figures(trace(stamps))
    assert found.decode_tps is None
    assert found.ttft_s == (stamps[0] if stamps else None)


def test_gap_quantiles_interpolate():
    found = read_figures(trace([0.0, 1.0, 3.0, 6.0]))  # gaps 1, 2, 3
    assert found.itl_p50_s == 2.0
    assert found.itl_p95_s == pytest.approx(2.9)  # definition 7: rank 0.95 * 2 = 1.9, between 2 and 3


def test_stamps_must_be_in_order_and_marked():
    with pytest.raises(ValueError, match="backwards"):
        read_figures(trace([0.2, 0.1]))
    with pytest.raises(ValueError, match="marks"):
        read_figures(trace([0.2], thinking=[]))
    with pytest.raises(ValueError, match="no value"):
        quantile([], 0.5)
