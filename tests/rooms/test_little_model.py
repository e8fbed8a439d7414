"""The little model: blocks against the format's own package, the network against PyTorch's scores, what it draws."""

import hashlib
import itertools
import json
import math
import random
from pathlib import Path

import gguf
import numpy as np
import pytest
from byte_pairs import find_merges
from grammar.tasks import code_of, draw_tasks, lines, meaning, part_of
from grammar.texts import prompt_of
from hypothesis import given, settings
from hypothesis import strategies as st
from make_firstlight import draw_args, make_suite, result_of

from kettlefield.core.errors import InputError
from kettlefield.demo.little.block_packing import pack
from kettlefield.demo.little.blocks import LEVELS, type_named
from kettlefield.demo.little.level_files import SHAPE, model_folder, write_level
from kettlefield.demo.little.little_weights import Matrix, load_weights, read_trained
from kettlefield.demo.little.network import Cache, Network, Sampler, Sampling, likelihoods
from kettlefield.demo.little.slots import CHUNK_TOKENS, Engine, make_stream
from kettlefield.demo.little.tokens import CHARACTERS, OutsideVocabularyError, StopWords, Tokenizer, read_vocabulary
from kettlefield.demo.simulated_models import MODELS, write_weights
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.weights.formats import read_facts

STORED = json.loads((Path(__file__).parents[1] / "little_scores.json").read_text())  # by tools/check_little_model.py
ROWS = np.random.default_rng(3).standard_t(5, (24, 512)).astype(np.float32) / 20
PROMPT = "Write a Python function `tally_fares(fares)`. Take the first 3."


@pytest.fixture(scope="module")
def level_files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("levels")
    paths = {level: folder / f"{level}.gguf" for level in LEVELS}
    for level, path in paths.items():
        write_level(level, path)
    return paths


@pytest.fixture(scope="module")
def network(level_files):
    return Network(load_weights(level_files["f16"]))


@pytest.fixture(scope="module")
def tokenizer():
    return Tokenizer(read_vocabulary(model_folder() / "vocabulary.json"))


# --- blocks and files


def test_every_level_lies_as_the_format_says_and_loses_more_with_fewer_bits():
    lost = []
    for level, name in LEVELS.items():
        kind, packed = type_named(name), pack(ROWS, name)
        assert (kind.number, kind.elements, kind.size_bytes) == (
            gguf.GGMLQuantizationType[name],
            *gguf.GGML_QUANT_SIZES[gguf.GGMLQuantizationType[name]],
        )
        matrix = Matrix(packed, kind, ROWS.shape)
        own = matrix.numbers()
        x = np.random.default_rng(1).standard_normal((3, ROWS.shape[1])).astype(np.float32)
        assert matrix.times(x) == pytest.approx(x @ own.T, abs=1e-4) and matrix.size_bytes == packed.nbytes
        assert np.array_equal(own, gguf.dequantize(packed, gguf.GGMLQuantizationType[name])), level
        lost.append(float(np.sqrt(((own - ROWS) ** 2).mean() / (ROWS**2).mean())))
        assert packed.nbytes * 8 / ROWS.size == kind.bits_per_weight
    assert lost == sorted(lost) and lost[0] < 3e-4 and 0.2 < lost[-1] < 0.4
    for name in set(LEVELS.values()):  # rows of nothing, of one value, of one outlier
        odd = np.zeros((3, 256), np.float32)
        odd[1], odd[2, 7] = 0.25, -3.0
        again = gguf.dequantize(pack(odd, name), gguf.GGMLQuantizationType[name])
        assert np.isfinite(again).all() and again == pytest.approx(odd, abs=0.02)


def test_what_cannot_be_packed():
    with pytest.raises(ValueError, match="100 columns: wanted a multiple of 256 for Q2_K"):
        pack(ROWS[:, :100], "Q2_K")
    with pytest.raises(ValueError, match="not finite"):
        pack(np.full((1, 256), np.nan, np.float32), "Q8_0")


def test_weigh_reads_what_is_written_and_the_runtime_holds_no_more(level_files):
    trained = read_trained(model_folder() / "little.safetensors")
    parameters = sum(tensor.size for tensor in trained.values())
    assert 0.8e6 < parameters < 1.5e6 and (model_folder() / "little.safetensors").stat().st_size < 4e6
    held = []
    for level, path in level_files.items():
        facts, weights = read_facts(path), load_weights(path)
        assert (facts.level, facts.parameters, facts.layers, facts.context_tokens) == (level, parameters, 3, 512)
        assert (
            facts.licence.spdx == "MIT"
            and facts.style == "chat"
            and set(facts.infill_markers)
            == {
                "prefix",
                "suffix",
                "middle",
            }
        )
        assert facts.weights_bytes == weights.size_bytes  # packed in memory as in the file
        matrix = weights.matrices["blk.1.ffn_up.weight"]
        assert np.array_equal(matrix.rows(np.array([5, 2])), matrix.numbers()[[5, 2]])
        held.append(weights.size_bytes)
    assert held == sorted(held, reverse=True) and held[0] > 5.5 * held[-1]
    assert read_facts(model_folder() / "little.safetensors").parameters == parameters
    with pytest.raises(InputError, match='there is no level "q1"'):
        write_level("q1", level_files["f16"].with_name("new.gguf"))


def test_foreign_and_damaged_files_are_refused_in_one_line(level_files, tmp_path):
    foreign = tmp_path / "foreign.gguf"
    write_weights(MODELS["kelpling-400m"], "f16", foreign)
    with pytest.raises(InputError, match="architecture 'saltmarsh', this server runs 'eelgrass'"):
        load_weights(foreign)
    whole = level_files["q2_k"].read_bytes()
    bad, rng = tmp_path / "bad.gguf", random.Random(4)
    for cut in (0, 3, 30, 900, 20_000, len(whole) - 1):
        bad.write_bytes(whole[:cut])
        with pytest.raises(InputError):
            load_weights(bad)
    loaded = 0
    for _ in range(150):  # bytes of the header changed: refused, or what was changed does not matter
        changed = bytearray(whole)
        for place in rng.sample(range(24, 24_000), 3):
            changed[place] = rng.randrange(256)
        bad.write_bytes(changed)
        try:
            load_weights(bad)
            loaded += 1
        except InputError as err:
            assert "\n" not in str(err)
    assert loaded < 60
    named = whole.replace(b"eelgrass.attention.head_count_kv", b"eelgrass.attention.head_count_kx")
    bad.write_bytes(named)
    with pytest.raises(InputError, match="says attention.head_count_kv is None"):
        load_weights(bad)
    folder = tmp_path / "trained"
    folder.mkdir()
    (folder / "vocabulary.json").write_bytes((model_folder() / "vocabulary.json").read_bytes())
    held = (model_folder() / "little.safetensors").read_bytes()
    (folder / "little.safetensors").write_bytes(held[:-5])
    with pytest.raises(InputError, match="truncated"):
        write_level("f16", tmp_path / "new.gguf", folder)
    (folder / "little.safetensors").write_bytes(held.replace(b"blk.2.ffn_up", b"blk.2.ffn_ux", 1))
    with pytest.raises(InputError, match="is not the little model"):
        write_level("f16", tmp_path / "new.gguf", folder)
    (folder / "vocabulary.json").write_text("{}")
    with pytest.raises(InputError, match="is not a vocabulary"):
        write_level("f16", tmp_path / "new.gguf", folder)


# --- the network


def scores(network, tokens, cache=None):
    return network.advance([(cache or Cache(SHAPE, 512, 16), tokens)])[0]


def test_scores_are_those_that_pytorch_gave(network):
    for entry in STORED:
        got = scores(network, entry["tokens"], Cache(SHAPE, 512, 32))[: len(entry["scores"])]
        assert got == pytest.approx(entry["scores"], abs=1e-3)


def test_reading_in_pieces_and_beside_others_changes_nothing(network, tokenizer):
    tokens = tokenizer.encode(PROMPT)
    at_once = scores(network, tokens)
    one, other = Cache(SHAPE, 512, 16), Cache(SHAPE, 512, 16)
    network.advance([(one, tokens[:7]), (other, tokens[3:5])])
    network.advance([(other, tokens[:9]), (one, tokens[7:-1])])
    assert scores(network, tokens[-1:], one) == pytest.approx(at_once, abs=2e-2)  # what was kept has 16 bits
    assert one.length == len(tokens) and other.length == 11
    lean = Cache(SHAPE, 512, 8)
    assert scores(network, tokens, lean) == pytest.approx(at_once, abs=1.0)
    assert not np.array_equal(scores(network, [40], lean), scores(network, [40], one))
    assert lean.size_bytes == one.size_bytes * (SHAPE.head_size + 2) // (2 * SHAPE.head_size)
    with pytest.raises(ValueError, match="beyond the context of 512 tokens"):
        network.advance([(Cache(SHAPE, 600, 16), [5] * 513)])


# --- text and tokens


@settings(deadline=None, max_examples=60)
@given(st.text(st.sampled_from(CHARACTERS), max_size=80))
def test_text_comes_back_from_its_tokens(text):
    own = Tokenizer(read_vocabulary(model_folder() / "vocabulary.json"))
    tokens = own.encode(text)
    assert own.decode(tokens) == text
    assert all(token >= len(own.specials) for token in tokens)  # nobody types a mark


def test_digits_stand_alone_marks_count_only_where_they_may_and_the_rest_is_refused(tokenizer):
    assert [tokenizer.pieces[token] for token in tokenizer.encode("1204")] == ["1", "2", "0", "4"]
    assert tokenizer.encode("<|end|>", marks=True) == [tokenizer.number["<|end|>"]]
    assert len(tokenizer.encode("<|end|>")) > 1
    assert len(tokenizer.encode("Return the result.")) <= 5 and len(tokenizer.pieces) == 512
    with pytest.raises(OutsideVocabularyError, match=r"U\+00E9 at 3 is outside"):
        tokenizer.encode("café")


@settings(deadline=None, max_examples=150)
@given(st.text("ab\n", max_size=30), st.lists(st.text("ab\n", min_size=1, max_size=4), max_size=3), st.data())
def test_a_reply_ends_before_the_first_stop_word_however_it_is_cut(text, words, data):
    stops, sent, place = StopWords(words), "", 0
    stopped = False
    while place < len(text) and not stopped:
        step = data.draw(st.integers(1, 4))
        more, stopped = stops.add(text[place : place + step])
        sent, place = sent + more, place + step
    if not stopped:
        sent += stops.rest()
        assert sent == text and not any(word in text for word in words)
    else:
        seen = text[:place]
        assert sent == seen[: min(seen.index(word) for word in words if word in seen)]


# --- drawing


def test_likelihoods_by_hand():
    of = lambda **how: likelihoods(np.log([0.5, 0.3, 0.15, 0.05]).astype(np.float32), Sampling(**how))  # noqa: E731
    assert of() == pytest.approx([0.5, 0.3, 0.15, 0.05], abs=1e-6)
    assert of(temperature=0.5) == pytest.approx(np.array([25, 9, 2.25, 0.25]) / 36.5, abs=1e-6)
    assert of(top_k=2) == pytest.approx([0.625, 0.375, 0, 0], abs=1e-6)
    assert of(top_p=0.7) == pytest.approx([0.625, 0.375, 0, 0], abs=1e-6)  # the one that reaches the share stays
    assert of(min_p=0.25) == pytest.approx(np.array([50, 30, 15, 0]) / 95, abs=1e-6)
    assert of(top_k=3, top_p=0.6, min_p=0.7) == pytest.approx([1, 0, 0, 0])
    assert of(temperature=1e-310) == pytest.approx([1, 0, 0, 0])


def test_draws_follow_the_likelihoods_the_seed_and_the_penalty():
    row = np.log(np.array([0.6, 0.3, 0.1])).astype(np.float32)
    drawn = [Sampler(Sampling(seed=seed)).pick(row, []) for seed in range(2000)]
    assert np.bincount(drawn) / 2000 == pytest.approx([0.6, 0.3, 0.1], abs=4 * math.sqrt(0.25 / 2000))
    assert drawn[:50] == [Sampler(Sampling(seed=seed)).pick(row, []) for seed in range(50)]
    greedy = Sampler(Sampling(temperature=0, repeat_penalty=3))
    assert greedy.pick(row, []) == 0
    assert greedy.pick(row, [0]) == 1  # -0.51 x 3 lies below -1.2
    assert greedy.pick(np.array([2.0, 1.0, 0.5], np.float32), [0]) == 1  # 2 / 3 lies below 1
    faults = {"temperature": math.inf, "top_k": -1, "top_p": 0, "min_p": 1, "repeat_penalty": 0, "seed": -1}
    for name, value in faults.items():
        assert Sampling(**{name: value}).fault() == f"{name} is {value}, out of its range"
    assert Sampling().fault() is None


def write_all(network, tokenizer, prompts, *, slots, cap=24, keep=False, stops=()):
    engine = Engine(network, tokenizer.pieces, end=0, slots=slots, context_tokens=512, bits=16, keep_prompts=keep)
    streams = [make_stream(prompt, cap, Sampling(temperature=0), stops) for prompt in prompts]
    for stream in streams:
        engine.submit(stream)
    steps = sum(1 for _ in itertools.takewhile(bool, (engine.step() for _ in range(2000))))
    return streams, steps


def test_slots_share_steps_and_give_what_each_gives_alone(network, tokenizer):
    prompts = [tokenizer.encode(f"def fold_{word}({word}):\n") for word in ("tides", "fares", "crews", "ports", "gaps")]
    alone = [write_all(network, tokenizer, [prompt], slots=1) for prompt in prompts]
    shared, steps = write_all(network, tokenizer, prompts, slots=3)
    assert [s.written for s in shared] == [s[0].written for s, _ in alone]
    assert steps < 0.6 * sum(count for _, count in alone)
    texts = ["".join(iter(s.pieces.get_nowait, None)) for s in shared]
    assert texts == [tokenizer.decode(s.written) for s in shared]
    assert all(s.reason in {"stop", "length"} and len(s.written) <= 24 for s in shared)
    dropped, _ = write_all(network, tokenizer, prompts[:1], slots=1)
    word = tokenizer.decode(dropped[0].written)[4:7]
    (stopped,), _ = write_all(network, tokenizer, prompts[:1], slots=1, stops=[word])
    assert stopped.reason == "stop" and word not in "".join(iter(stopped.pieces.get_nowait, None))


def test_a_kept_prompt_is_read_once_and_long_ones_in_chunks(network, tokenizer):
    begins = tokenizer.encode(PROMPT * 8)[: CHUNK_TOKENS + 40]
    prompts = [begins, [*begins, *tokenizer.encode(" Sort them.")], begins]
    fresh, _ = write_all(network, tokenizer, prompts, slots=1, cap=4)
    kept, _ = write_all(network, tokenizer, prompts, slots=1, cap=4, keep=True)
    assert [s.cached_tokens for s in kept] == [0, len(begins), len(begins) - 1]
    assert [s.cached_tokens for s in fresh] == [0, 0, 0]
    assert [s.written for s in kept] == [s.written for s in fresh]


# --- the grammar


def test_training_and_evaluation_share_no_task_and_code_does_what_is_meant():
    drawn = {part: list(itertools.islice(draw_tasks(part, 20), 3000)) for part in ("training", "near", "far")}
    assert all(part_of(task) == part for part, tasks in drawn.items() for task in tasks)
    chains = {part: {tuple(name for name, _ in t.chain) for t in tasks} for part, tasks in drawn.items()}
    prompts = {part: {prompt_of(t) for t in tasks} for part, tasks in drawn.items()}
    assert chains["training"] & chains["near"] and not chains["far"] & (chains["training"] | chains["near"])
    assert not prompts["training"] & (prompts["near"] | prompts["far"])
    codes = {part: {code_of(lines(t), t) for t in tasks} for part, tasks in drawn.items()}
    assert len(codes["near"] & codes["training"]) < 0.05 * len(codes["near"])

    rng, held = random.Random(1), 0
    for task in drawn["training"][:400]:
        args = draw_args(task, rng)
        try:
            meant = meaning(task, args)
        except (LookupError, ValueError, TypeError):
            continue
        assert result_of(lines(task), task, args) == meant, code_of(lines(task), task)
        held += 1
    assert held > 300


def test_the_shipped_suite_is_what_its_tool_makes(tmp_path):
    make_suite(tmp_path, {"write": 5})  # the first of them; what the tool draws later hangs on all before
    shipped = find_suite("firstlight", Path())
    made = [path for path in tmp_path.rglob("*") if path.is_file() and path.parent != tmp_path]
    assert len(made) > 5 * 6
    for path in made:
        assert path.read_bytes() == (shipped / path.relative_to(tmp_path)).read_bytes(), path.name


def test_merges_join_what_stands_together_most_often():
    # by hand: t and e stand together three times; then three pairs do twice, and a space is first by alphabet
    assert find_merges(["tern tern tee"], 3) == (("t", "e"), (" ", "te"), ("r", "n"))
    assert find_merges(["7 7"], 5) == ()  # digits stay alone


def test_the_card_says_what_the_files_are():
    card = (model_folder() / "card.md").read_text()
    for name in ("little.safetensors", "vocabulary.json"):
        assert f"sha256:{hashlib.sha256((model_folder() / name).read_bytes()).hexdigest()}  {name}" in card
    parameters = sum(tensor.size for tensor in read_trained(model_folder() / "little.safetensors").values())
    assert f"{parameters:,} parameters; {SHAPE.layers} layers of width {SHAPE.width}" in card
    assert "seed 20" in card and "| licence | MIT" in card


def test_the_suite_comes_from_the_part_that_is_never_trained():
    folder = find_suite("firstlight", Path())
    told = {
        exercise.prompt.strip()
        for seed in (0, 1, 2, 3)
        for exercise in load_suite(CHECKS, folder, seed=seed).exercises
        if exercise.spec.kind == "write"
    }
    trained = {prompt_of(task) for task in itertools.islice(draw_tasks("training", 20), 20_000)}
    assert len(load_suite(CHECKS, folder).exercises) >= 60 and len(told) > 80 and not told & trained
