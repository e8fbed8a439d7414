"""The stand-in: files with true headers, physics by hand, replies that hang on bits; the GGUF reader's suspicion."""

import hashlib
import itertools
import json
import struct
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.extract import extract_answer
from kettlefield.demo.simulated_folder import CARD, prepare_demo
from kettlefield.demo.simulated_models import (
    DIGESTS,
    LEVEL_TYPES,
    MODELS,
    OVERHEAD_BYTES,
    STEP_OVERHEAD_S,
    Physics,
    hole_key,
    load_model,
    write_weights,
)
from kettlefield.demo.simulated_replies import Replier, tokens_of
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import wanted_of
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.rig.accelerators import SimulatedCard, open_accelerator
from kettlefield.rig.simulated_card import CardFile, claim_bytes
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.weights.digests import weights_digest
from kettlefield.weights.gguf_header import read_gguf, read_item

SUITE = load_suite(CHECKS, find_suite("berthdesk", Path())).exercises[::4]  # enough to tell models apart
MODEL = MODELS["kelpling-400m"]


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("weights")
    paths = {level: folder / f"{level}.gguf" for level in LEVEL_TYPES}
    for level, path in paths.items():
        write_weights(MODEL, level, path)
    return paths


def parameters_by_hand():
    m = MODEL
    attention = m.width * m.width * 2 + 2 * m.width * m.kv_heads * m.head_size
    layer = attention + 3 * m.width * m.feed_forward + 2 * m.width
    return m.layers * layer + m.vocabulary * m.width + m.width


def test_made_up_weights_have_true_headers_and_no_data(files):
    found = load_model(files["f16"])
    assert found.parameters == parameters_by_hand()
    assert found.kv_bytes_per_token == 24 * 8 * 64 * 2 * 2
    # 16 bits a weight, but norms at 32, and a header
    assert found.bits_per_weight == pytest.approx(16, abs=0.01)
    assert files["f16"].stat().st_blocks * 512 < 200_000
    # digests of files that are mostly a hole are known beforehand, and true
    with files["q2_k"].open("rb") as file:
        assert weights_digest(files["q2_k"]) == hashlib.file_digest(file, "sha256").hexdigest()
    known = json.loads(DIGESTS.read_text())
    assert {hole_key(path, read_gguf(path).data_offset_bytes) for path in files.values()} <= set(known)
    sizes = [load_model(path).bits_per_weight for path in files.values()]
    assert sizes == sorted(sizes, reverse=True)


def test_physics_by_hand(files):
    card = CardFile(name="c", memory_bytes=2**32, bandwidth_bytes_s=1e11, compute_flops=1e13, load_bytes_s=1e9)
    model = load_model(files["q8_0"])
    physics = Physics(model, card)
    assert physics.load_s() == pytest.approx(model.weight_bytes / 1e9)
    assert physics.step_s([100]) == pytest.approx((model.weight_bytes + 100 * 49152) / 1e11 + STEP_OVERHEAD_S)
    # two streams read the weights once: less than twice the time of one
    assert physics.step_s([100, 100]) < 2 * physics.step_s([100])
    assert physics.prefill_s(1000) == pytest.approx(2 * model.parameters * 1000 / 1e13 + STEP_OVERHEAD_S)
    assert physics.memory_bytes(1000, 2) == model.weight_bytes + 2 * 1000 * 49152 + OVERHEAD_BYTES


def outcomes(path, level, seeds=range(8)):
    replier = Replier(load_model(path), level, SUITE)
    solved = cut = 0
    for exercise in SUITE:
        for seed in seeds:
            reply = replier.reply(f"Please.\n\n{exercise.prompt}\nThanks.", seed)
            cut += reply.endless
            found = extract_answer(reply.text, wanted_of(exercise), LANGUAGES)
            solved += bool(found.files) and found.text.strip() == exercise.answer[exercise.spec.file].strip()
    return solved / (len(SUITE) * len(seeds)), cut


def test_replies_get_worse_as_bits_fall_and_loop_only_at_the_bottom(files):
    rates = {level: outcomes(path, level) for level, path in files.items()}
    solved = [rate for rate, _ in rates.values()]
    assert solved[0] - solved[3] > 0.3
    assert all(later <= earlier + 0.05 for earlier, later in itertools.pairwise(solved))
    assert [cut > 0 for _, cut in rates.values()] == [False, False, False, True]


def test_the_same_request_gets_the_same_reply(files):
    for seed in (1, 2, 3):
        pair = [Replier(load_model(files["q2_k"]), "q2_k", SUITE).reply(SUITE[0].prompt, seed) for _ in range(2)]
        assert pair[0] == pair[1]
    assert "simulated" in Replier(load_model(files["f16"]), "f16", SUITE).reply("What is a ferry?", 1).text
    assert "".join(tokens_of("a  b\n(c)")) == "a  b\n(c)"


def test_the_cards_memory_is_seen_from_outside_and_goes_with_its_process(tmp_path):
    (tmp_path / "card.toml").write_text(CARD)
    card = open_accelerator("simulated:.", tmp_path)
    assert isinstance(card, SimulatedCard) and "simulated" in card.name
    import os

    claim_bytes(tmp_path, 1234)
    (tmp_path / "used-999999999").write_text("5")  # no such process
    assert (card.used_by({os.getpid()}), card.used_by({1}), card.used()) == (1234, 0, 1234)
    assert open_accelerator("none", tmp_path) is None
    for wanted in ("cuda", "simulated:elsewhere"):
        with pytest.raises(InputError):
            open_accelerator(wanted, tmp_path)


def test_the_demo_never_writes_into_a_folder_of_somebody_elses(tmp_path):
    (tmp_path / "notes.txt").write_text("mine")
    with pytest.raises(InputError, match="is not a demo"):
        prepare_demo(tmp_path)


def string(text):
    raw = text.encode()
    return struct.pack("<Q", len(raw)) + raw


def gguf(*keys, tensors=(), version=3, counts=None):
    n_tensors, n_keys = counts or (len(tensors), len(keys))
    return b"GGUF" + struct.pack("<IQQ", version, n_tensors, n_keys) + b"".join(keys) + b"".join(tensors) + b"\0" * 64


def key(name, kind, raw):
    return string(name) + struct.pack("<I", kind) + raw


def test_values_of_every_kind_are_read(tmp_path):
    path = tmp_path / "a.gguf"
    words = struct.pack("<IQ", 8, 5000) + b"".join(string(f"t{i}") for i in range(5000))
    numbers = struct.pack("<IQ3i", 5, 3, -1, 0, 7)
    nested = struct.pack("<IQ", 9, 1) + struct.pack("<IQ2B", 0, 2, 4, 5)
    path.write_bytes(
        gguf(
            key("a", 4, struct.pack("<I", 9)),
            key("b", 8, string("berth")),
            key("c", 9, words),
            key("d", 9, numbers),
            key("e", 9, nested),
            key("f", 7, b"\1"),
            tensors=[string("w") + struct.pack("<I2QIQ", 2, 4, 8, 1, 0)],
            version=2,
        )
    )
    found = read_gguf(path)
    words = found.metadata.pop("c")
    assert (words.length, read_item(path, words, 4321), read_item(path, words, 5000)) == (5000, "t4321", None)
    assert found.metadata == {"a": 9, "b": "berth", "d": [-1, 0, 7], "e": [[4, 5]], "f": True}
    assert (found.tensors[0].name, found.tensors[0].elements, found.version) == ("w", 32, 2)


LIES = {
    "empty": (b"", "too short"),
    "another format": (b"PK\3\4" + b"\0" * 60, "does not start as a GGUF"),
    "version": (gguf(version=9), "version 9"),
    "big-endian": (b"GGUF" + struct.pack(">IQQ", 3, 0, 0) + b"\0" * 20, "big-endian"),
    "billions of tensors": (gguf(counts=(2**40, 0)), "1,099,511,627,776 tensors"),
    "billions of keys": (gguf(counts=(0, 2**62)), "metadata keys"),
    "a string of gigabytes": (gguf(key("a", 8, struct.pack("<Q", 2**33))), "string of 8,589,934,592 bytes"),
    "an array of gigabytes": (gguf(key("a", 9, struct.pack("<IQ", 4, 2**40))), "array of 1,099,511,627,776 values"),
    "strings that lie": (
        gguf(key("a", 9, struct.pack("<IQ", 8, 5000) + struct.pack("<Q", 2**40) + b"\0" * 50_000)),
        "inside its header",
    ),
    "an unknown type": (gguf(key("a", 99, b"")), "unknown type 99"),
    "arrays in arrays in arrays": (gguf(key("a", 9, struct.pack("<IQ", 9, 1) * 9)), "unknown type 9"),
    "a key twice": (gguf(key("a", 4, b"\0" * 4), key("a", 4, b"\0" * 4)), "twice"),
    "many dimensions": (gguf(tensors=[string("w\x1b") + struct.pack("<I", 99)]), "99 dimensions"),
    "an odd alignment": (gguf(key("general.alignment", 4, struct.pack("<I", 33))), "alignment of 33"),
}


@pytest.mark.parametrize("name", LIES)
def test_a_header_that_lies_ends_in_one_clear_error(tmp_path, name):
    content, words = LIES[name]
    path = tmp_path / "lie.gguf"
    path.write_bytes(content)
    with pytest.raises(InputError) as caught:
        read_gguf(path)
    assert words in caught.value.what
    assert "\x1b" not in caught.value.what


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=300)
@given(st.integers(0, 400), st.binary(min_size=1, max_size=12))
def test_a_damaged_header_is_read_or_refused_never_worse(tmp_path, files, at, junk):
    whole = files["q4_k_m"].read_bytes()[:30_000] if files["q4_k_m"].stat().st_size < 2**20 else None
    if whole is None:
        with files["q4_k_m"].open("rb") as file:
            whole = file.read(30_000)
    path = tmp_path / "damaged.gguf"
    path.write_bytes(whole[:at] + junk + whole[at + len(junk) :])
    try:
        read_gguf(path)
    except InputError as err:
        assert str(path) in err.where


def test_quirks_stretch_time_and_a_cached_prompt_is_not_read_again(files):
    from kettlefield.demo.simulated_engine import Engine, Pace, Quirks

    hot = Pace(Quirks(throttle_after_s=1.0, throttle_factor=3.0))
    assert (hot.stretch(0.9), hot.throttled, hot.stretch(0.2), hot.throttled, hot.stretch(1.0)) == (
        0.9,
        False,
        0.2,
        True,
        3.0,
    )
    noisy = Pace(Quirks(noise=0.5))
    drawn = [noisy.stretch(1.0) for _ in range(200)]
    assert min(drawn) >= 0.2 and 0.85 < sum(drawn) / 200 < 1.2 and max(drawn) > 1.5
    card = CardFile(name="c", memory_bytes=2**32, bandwidth_bytes_s=1e11, compute_flops=1e13, load_bytes_s=1e9)
    engine = Engine(Physics(load_model(files["q8_0"]), card), 2, Quirks(prompt_cache=True))
    prompt = tokens_of("which berth is free at noon")
    assert [engine._cached(prompt), engine._cached(prompt), engine._cached([*prompt, "?"])] == [
        0,
        len(prompt) - 1,
        len(prompt),
    ]
    assert Engine(Physics(load_model(files["q8_0"]), card), 2, Quirks())._cached(prompt) == 0
