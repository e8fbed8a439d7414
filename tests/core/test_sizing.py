"""Sizing on shapes worked by hand; and the marks of a wrong prompt style."""

import pytest

from kettlefield.core.extraction.reply_symptoms import differing_echoes, signs_of_wrong_style
from kettlefield.core.sizing.requirements import (
    OVERHEAD_BASE_BYTES,
    CacheLayer,
    ModelShape,
    decode_ceiling_tps,
    kv_bytes,
    kv_bytes_per_token,
    largest_context,
    layers_that_fit,
    memory_need,
    window_pattern,
)

FULL = CacheLayer(kv_heads=2, key_size=64, value_size=64)
NARROW = CacheLayer(kv_heads=2, key_size=64, value_size=64, window_tokens=100)


def shape(*layers, weights=1_000_000, read=None):
    return ModelShape(
        weights_bytes=weights,
        cache_layers=layers,
        layers=len(layers),
        layer_bytes=weights // 2,
        read_bytes=read or weights,
    )


@pytest.mark.parametrize(
    ("layers", "context", "bits", "parallel", "expected"),
    [
        # 1 layer x 2 heads x (64 + 64) x 10 tokens x 2 bytes
        ([FULL], 10, 16, 1, 5120),
        # with a scale of 16 bits to 32 elements: 2 x 128 x 10 x 8.5 / 8, and x 4.5 / 8
        ([FULL], 10, 8, 1, 2720),
        ([FULL], 10, 4, 1, 1440),
        ([FULL] * 3, 10, 16, 4, 5120 * 12),
        # beyond its window a layer remembers 100 tokens: 2 x 128 x (1000 + 100) x 2 bytes
        ([FULL, NARROW], 1000, 16, 1, 563_200),
        ([FULL, NARROW], 60, 16, 1, 61_440),
        # keys of 192, values of 128, one head
        ([CacheLayer(kv_heads=1, key_size=192, value_size=128)], 5, 16, 1, 3200),
        ([], 10, 16, 1, 0),
    ],
)
def test_cache_by_hand(layers, context, bits, parallel, expected):
    assert kv_bytes(shape(*layers), context, kv_bits=bits, parallel=parallel) == expected


def test_need_is_weights_cache_and_overhead():
    need = memory_need(shape(FULL), 10)
    assert need.overhead_bytes == OVERHEAD_BASE_BYTES + 20_000
    assert need.total_bytes == 1_000_000 + 5120 + need.overhead_bytes
    assert kv_bytes_per_token(shape(FULL, NARROW)) == 1024


def test_the_longest_context_is_the_edge_of_the_budget():
    model = shape(FULL)
    budget = memory_need(model, 777).total_bytes
    assert largest_context(model, budget, most_tokens=10_000) == 777
    assert largest_context(model, budget - 1, most_tokens=10_000) == 776
    assert largest_context(model, budget, most_tokens=500) == 500
    assert largest_context(model, 1000, most_tokens=500) is None
    bare = memory_need(model, 777, overhead_bytes=0)
    assert bare.total_bytes == bare.weights_bytes + bare.kv_bytes
    assert largest_context(model, bare.total_bytes, most_tokens=10_000, overhead_bytes=0) == 777


def test_layers_that_fit_by_hand():
    model = shape(*[FULL] * 10, weights=10_000_000)
    need = memory_need(model, 100)
    # a layer: 5,000,000 / 10 of weights and 512,000 / 10 of cache
    room = need.overhead_bytes + round(3.5 * (500_000 + 51_200))
    assert layers_that_fit(model, need, room) == 3
    assert layers_that_fit(model, need, 10**12) == 10
    assert layers_that_fit(model, need, 0) == 0


def test_the_ceiling_is_bandwidth_over_bytes_read():
    assert decode_ceiling_tps(shape(FULL, read=500_000), 1e9, 0) == pytest.approx(2000)
    assert decode_ceiling_tps(shape(FULL), 1e9, 1000) == pytest.approx(1e9 / 1_512_000)


def test_window_patterns():
    assert window_pattern(3, None, 2) == [None] * 3
    assert window_pattern(3, 9, None) == [9, 9, 9]
    assert window_pattern(6, 9, 3) == [9, 9, None, 9, 9, None]
    assert window_pattern(3, 9, [True, False, True]) == [9, None, 9]
    with pytest.raises(ValueError, match="above 0"):
        kv_bytes(shape(FULL), 0)


@pytest.mark.parametrize(
    ("reply", "cap_hit", "words"),
    [
        ("harbour", False, None),
        ("Harbour.\n", False, None),
        ("harbour<|end|>", False, "marker <|end|>"),
        ("harbour [/INST] more", False, "marker [/INST]"),
        ("harbour\n### Instruction: next", False, "marker ### Instruction"),
        ("harbour\nUser: and now?", False, "another speaker"),
        ("harbour harbour harbour", True, "does not end"),
        ("  ", False, "empty"),
    ],
)
def test_signs_of_a_wrong_style(reply, cap_hit, words):
    signs = signs_of_wrong_style(reply, cap_hit=cap_hit)
    assert (not signs) if words is None else words in " ".join(signs)


def test_settings_that_the_server_took_otherwise_are_seen():
    sent = {"temperature": 0.2, "top_k": 40, "seed": 7}
    assert differing_echoes(sent, {"params": [{"temperature": 0.2000000029, "top_k": 40}]}) == {}
    assert differing_echoes(sent, {"a": {"temperature": 0.8, "seed": 7}, "top_k": 0}) == {
        "temperature": 0.8,
        "top_k": 0,
    }
    deep = {"temperature": 9}
    for _ in range(3000):
        deep = [deep]
    assert differing_echoes(sent, deep) == {}
