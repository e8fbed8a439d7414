"""Weights files of made-up architectures, written by the formats' own packages, against worked arithmetic."""

import json
import struct

import gguf
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from safetensors.numpy import save_file

from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import kv_bytes, kv_bytes_per_token
from kettlefield.weights.digests import digest_of_files
from kettlefield.weights.facts import check_policy, is_allowed, read_licence
from kettlefield.weights.formats import read_facts

WIDTH, LAYERS, VOCABULARY, INNER = 64, 4, 300, 128


def write_gguf(path, *, heads=4, kv_heads=4, kind="F16", keys=(), experts=0, extra=(), layers=LAYERS, untied=False):
    """A small GGUF model; returns the number of its parameters by hand."""
    writer = gguf.GGUFWriter(path, "dune")
    writer.add_name("Dune Tiny")
    writer.add_context_length(2048)
    writer.add_block_count(layers)
    writer.add_embedding_length(WIDTH)
    writer.add_head_count(heads)
    writer.add_head_count_kv(kv_heads)
    for name, value in keys:
        add = {bool: writer.add_bool, int: writer.add_uint32, str: writer.add_string, list: writer.add_array}[
            type(value)
        ]
        add(name, value)
    head = WIDTH // heads
    narrow = (kv_heads if isinstance(kv_heads, int) else kv_heads[0]) * head
    shapes = {"token_embd.weight": (VOCABULARY, WIDTH), "output_norm.weight": (WIDTH,)}
    if untied:
        shapes["output.weight"] = (VOCABULARY, WIDTH)
    for layer in range(layers):
        at = f"blk.{layer}."
        shapes |= {f"{at}attn_q.weight": (WIDTH, WIDTH), f"{at}attn_k.weight": (narrow, WIDTH)}
        if experts:
            shapes[f"{at}ffn_up_exps.weight"] = (experts, INNER, WIDTH)
        else:
            shapes[f"{at}ffn_up.weight"] = (INNER, WIDTH)
    total = 0
    for name, shape in (*shapes.items(), *extra):
        one_d = len(shape) == 1
        wanted = gguf.GGMLQuantizationType.F32 if one_d else gguf.GGMLQuantizationType[kind]
        block, size = gguf.GGML_QUANT_SIZES[wanted]
        elements = int(np.prod(shape))
        rows = elements // shape[-1]
        if wanted.name in {"F32", "F16"}:
            data = np.zeros(shape, dtype=np.float32 if wanted.name == "F32" else np.float16)
            writer.add_tensor(name, data)
        else:
            data = np.zeros((rows, shape[-1] // block * size), dtype=np.uint8).reshape(*shape[:-1], -1)
            writer.add_tensor(name, data, raw_dtype=wanted)
        total += elements
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()
    return total


def test_full_attention(tmp_path):
    total = write_gguf(tmp_path / "a.gguf")
    facts = read_facts(tmp_path / "a.gguf")
    by_hand = VOCABULARY * WIDTH + WIDTH + LAYERS * (2 * WIDTH * WIDTH + INNER * WIDTH)
    assert facts.parameters == total == by_hand
    assert (facts.model, facts.architecture, facts.level, facts.layers) == ("Dune Tiny", "dune", "f16", 4)
    assert facts.weights_bytes == 2 * (by_hand - WIDTH) + 4 * WIDTH
    # 4 layers x 4 heads x 16 x (key and value) x 2 bytes
    assert kv_bytes_per_token(facts.shape()) == 4 * 4 * 16 * 2 * 2
    assert (facts.style, facts.licence.written, facts.vocabulary) == ("continuation", None, None)


@pytest.mark.parametrize(("kv_heads", "per_token"), [(2, 4 * 2 * 16 * 4), (1, 4 * 1 * 16 * 4)])
def test_grouped_and_multi_query_attention(tmp_path, kv_heads, per_token):
    write_gguf(tmp_path / "a.gguf", kv_heads=kv_heads)
    facts = read_facts(tmp_path / "a.gguf")
    assert (facts.heads, facts.kv_heads, facts.head_size) == (4, (kv_heads,) * 4, 16)
    assert kv_bytes_per_token(facts.shape()) == per_token


def test_heads_that_differ_from_layer_to_layer(tmp_path):
    write_gguf(tmp_path / "a.gguf", kv_heads=[4, 0, 2, 0])  # two layers without attention keep no cache
    facts = read_facts(tmp_path / "a.gguf")
    assert facts.kv_heads == (4, 2)
    assert kv_bytes_per_token(facts.shape()) == (4 + 2) * 16 * 4


def test_sliding_windows(tmp_path):
    keys = (
        ("dune.attention.sliding_window", 100),
        ("dune.attention.sliding_window_pattern", [True, True, True, False]),
    )
    write_gguf(tmp_path / "a.gguf", kv_heads=2, keys=keys)
    facts = read_facts(tmp_path / "a.gguf")
    assert facts.windows == (100, 100, 100, None)
    assert kv_bytes(facts.shape(), 1000) == 2 * 16 * 2 * 2 * (3 * 100 + 1000)


def test_a_window_of_no_known_layers_is_sized_by_the_larger_need(tmp_path):
    write_gguf(tmp_path / "a.gguf", kv_heads=2, keys=(("dune.attention.sliding_window", 100),))
    facts = read_facts(tmp_path / "a.gguf")
    assert facts.windows == (None,) * 4
    assert kv_bytes(facts.shape(), 1000) == 2 * 16 * 2 * 2 * 4 * 1000
    assert "a window of 100 tokens, not said of which layers: the larger need is assumed" in facts.remarks


def test_shared_experts_work_for_every_token_and_positions_give_a_row(tmp_path):
    extra = (
        ("model.layers.0.mlp.shared_experts.up_proj.weight", (INNER, WIDTH)),
        ("blk.1.ffn_up_shexp.weight", (INNER, WIDTH)),
        ("position_embd.weight", (64, WIDTH)),
    )
    keys = (("dune.expert_count", 8), ("dune.expert_used_count", 2))
    write_gguf(tmp_path / "a.gguf", experts=8, keys=keys, extra=extra)
    facts = read_facts(tmp_path / "a.gguf")
    resting, positions = 4 * 8 * INNER * WIDTH * 6 // 8, 64 * WIDTH
    # the input table is the output too, so it is read whole
    assert facts.active_parameters == facts.parameters - resting - positions
    assert facts.shape().read_bytes == facts.weights_bytes - 2 * resting - 2 * positions
    assert {group.name: group.parameters for group in facts.groups}["feed-forward"] == 2 * INNER * WIDTH


def test_shared_layers_and_own_key_sizes(tmp_path):
    keys = (
        ("dune.attention.shared_kv_layers", 1),
        ("dune.attention.key_length", 24),
        ("dune.attention.value_length", 8),
    )
    write_gguf(tmp_path / "a.gguf", keys=keys)
    facts = read_facts(tmp_path / "a.gguf")
    assert (facts.shared_layers, len(facts.kv_heads), facts.head_size, facts.value_size) == (1, 3, 24, 8)
    assert kv_bytes_per_token(facts.shape()) == 3 * 4 * (24 + 8) * 2


def test_experts_are_counted_whole_and_read_in_part(tmp_path):
    keys = (("dune.expert_count", 8), ("dune.expert_used_count", 2))
    write_gguf(tmp_path / "a.gguf", experts=8, keys=keys, untied=True)
    facts = read_facts(tmp_path / "a.gguf")
    in_experts = 4 * 8 * INNER * WIDTH
    assert (facts.experts, facts.experts_used) == (8, 2)
    assert facts.active_parameters == facts.parameters - in_experts * 6 // 8 - VOCABULARY * WIDTH
    # six of eight experts rest, and of the input table one row is read
    assert facts.shape().read_bytes == facts.weights_bytes - 2 * in_experts * 6 // 8 - 2 * VOCABULARY * WIDTH


@pytest.mark.parametrize(("kind", "bits"), [("Q8_0", 8.5), ("Q4_0", 4.5), ("Q5_1", 6.0)])
def test_block_types_and_the_mix_that_a_label_hides(tmp_path, kind, bits):
    write_gguf(tmp_path / "a.gguf", kind=kind, keys=(("general.file_type", 10),))
    facts = read_facts(tmp_path / "a.gguf")
    groups = {group.name: group for group in facts.groups}
    assert groups["attention"].bits_per_weight == bits
    assert (groups["attention"].types, groups["norms"].types) == ((kind,), ("F32",))
    assert facts.level == "q2_k"
    assert f"the header says q2_k, most parameters are {kind.lower()}" in facts.remarks


def test_chat_template_infill_markers_and_licence(tmp_path):
    words = [f"w{number}" for number in range(6000)]
    keys = [("tokenizer.ggml.tokens", words), ("general.license", "apache-2.0 OR MIT")]
    keys += [(f"tokenizer.ggml.fim_{role}_token_id", 5990 + at) for at, role in enumerate(("pre", "suf", "mid"))]
    write_gguf(tmp_path / "base.gguf", keys=keys)
    facts = read_facts(tmp_path / "base.gguf")
    assert (facts.style, facts.vocabulary, facts.licence.spdx) == ("infill", 6000, "Apache-2.0 OR MIT")
    assert facts.infill_markers == {"prefix": "w5990", "suffix": "w5991", "middle": "w5992"}
    write_gguf(tmp_path / "chat.gguf", keys=[*keys, ("tokenizer.chat_template", "{{ messages }}")])
    assert read_facts(tmp_path / "chat.gguf").style == "chat"


def test_split_files_are_joined_from_any_shard(tmp_path):
    whole = write_gguf(tmp_path / "m-00001-of-00002.gguf")
    second = gguf.GGUFWriter(tmp_path / "m-00002-of-00002.gguf", "dune")
    second.add_tensor("blk.3.extra.weight", np.zeros((8, 8), dtype=np.float16))
    second.write_header_to_file()
    second.write_kv_data_to_file()
    second.write_tensors_to_file()
    second.close()
    for name in ("m-00001-of-00002.gguf", "m-00002-of-00002.gguf", "."):
        facts = read_facts(tmp_path / name)
        assert (facts.parameters, len(facts.files)) == (whole + 64, 2)
    assert digest_of_files(facts.files) != digest_of_files(facts.files[:1])
    (tmp_path / "m-00002-of-00002.gguf").unlink()
    with pytest.raises(InputError, match="1 of 2 shards missing, first m-00002"):
        read_facts(tmp_path / "m-00001-of-00002.gguf")


def test_a_truncated_file_and_unknown_types(tmp_path):
    path = tmp_path / "a.gguf"
    write_gguf(path)
    whole = path.read_bytes()
    path.write_bytes(whole[:-2000])
    with pytest.raises(InputError, match=r'is truncated: tensor "blk\.3.*lacks'):
        read_facts(path)
    # a type that nobody knows: its bits come from the room that it takes
    name = b"blk.0.attn_q.weight"
    at = whole.index(name) + len(name) + 4 + 16
    path.write_bytes(whole[:at] + struct.pack("<I", 4000) + whole[at + 4 :])
    facts = read_facts(path)
    tensor = next(t for t in facts.tensors if t.name == name.decode())
    assert (tensor.type_name, tensor.size_bytes) == ("type 4000", 2 * WIDTH * WIDTH)
    assert "type 4000: unknown tensor type" in facts.remarks[0]


def test_tensors_that_overlap_or_come_twice_and_counts_that_lie(tmp_path):
    path = tmp_path / "a.gguf"
    write_gguf(path)
    whole = path.read_bytes()
    place = whole.index(b"blk.1.attn_k.weight") + len(b"blk.1.attn_k.weight") + 4 + 16 + 4
    path.write_bytes(whole[:place] + struct.pack("<Q", 32) + whole[place + 8 :])
    with pytest.raises(InputError, match="overlaps the next one"):
        read_facts(path)
    path.write_bytes(whole.replace(b"blk.1.attn_k.weight", b"blk.0.attn_k.weight"))
    with pytest.raises(InputError, match="names a tensor twice"):
        read_facts(path)
    path.write_bytes(
        whole.replace(
            b"dune.block_count" + struct.pack("<II", 4, 4), b"dune.block_count" + struct.pack("<II", 4, 2**31)
        )
    )
    with pytest.raises(InputError, match="says block_count is 2147483648"):
        read_facts(path)
    place = whole.index(b"token_embd.weight") + len(b"token_embd.weight") + 4
    path.write_bytes(whole[:place] + struct.pack("<QQ", 2**40, 2**40) + whole[place + 16 :])
    with pytest.raises(InputError, match=r'gives tensor "token_embd\.weight"'):
        read_facts(path)


def write_safetensors(folder, *, config=None, shards=1, kv_rows=32, dtype=np.float16, card=None):
    """A small safetensors model with its configuration; returns its folder."""
    folder.mkdir(exist_ok=True)
    tensors = {"model.embed_tokens.weight": np.zeros((VOCABULARY, WIDTH), dtype)}
    for layer in range(LAYERS):
        at = f"model.layers.{layer}."
        tensors[f"{at}self_attn.q_proj.weight"] = np.zeros((WIDTH, WIDTH), dtype)
        tensors[f"{at}self_attn.k_proj.weight"] = np.zeros((kv_rows, WIDTH), dtype)
        tensors[f"{at}mlp.up_proj.weight"] = np.zeros((INNER, WIDTH), dtype)
    if shards == 1:
        save_file(tensors, folder / "model.safetensors")
    else:
        names, index = sorted(tensors), {}
        for number in range(shards):
            file = f"model-{number + 1:05d}-of-{shards:05d}.safetensors"
            part = {name: tensors[name] for name in names[number::shards]}
            save_file(part, folder / file)
            index |= dict.fromkeys(part, file)
        (folder / "model.safetensors.index.json").write_text(json.dumps({"metadata": {}, "weight_map": index}))
    if config is not None:
        whole = {
            "model_type": "strand", "num_hidden_layers": LAYERS, "num_attention_heads": 4, "num_key_value_heads": 2,
            "hidden_size": WIDTH, "vocab_size": VOCABULARY, "max_position_embeddings": 4096, **config,
        }  # fmt: skip
        (folder / "config.json").write_text(json.dumps(whole))
    if card is not None:
        (folder / "README.md").write_text(card)
    return folder


@pytest.mark.parametrize("shards", [1, 3])
def test_safetensors_single_and_sharded(tmp_path, shards):
    folder = write_safetensors(
        tmp_path / "strand-tiny", config={}, shards=shards, card="---\nlicense: mit\n---\n# Strand"
    )
    (folder / "tokenizer_config.json").write_text('{"chat_template": "{{ messages }}"}')
    facts = read_facts(folder)
    assert facts.parameters == VOCABULARY * WIDTH + LAYERS * (WIDTH * WIDTH + 32 * WIDTH + INNER * WIDTH)
    assert (facts.architecture, facts.level, facts.context_tokens, len(facts.files)) == ("strand", "f16", 4096, shards)
    assert (facts.model, facts.style, facts.licence.spdx) == ("strand-tiny", "chat", "MIT")
    assert kv_bytes_per_token(facts.shape()) == 4 * 2 * 16 * 2 * 2


def test_safetensors_windows_experts_and_nested_configuration(tmp_path):
    inner = {"sliding_window": 50, "layer_types": ["sliding_attention", "full_attention"] * 2, "num_experts": 4,
             "num_experts_per_tok": 1}  # fmt: skip
    facts = read_facts(write_safetensors(tmp_path / "m", config={"text_config": inner}))
    assert (facts.windows, facts.experts, facts.experts_used) == ((50, None, 50, None), 4, 1)
    off = read_facts(write_safetensors(tmp_path / "o", config={"sliding_window": 50, "use_sliding_window": False}))
    assert off.windows == (None,) * 4


def test_safetensors_without_configuration_and_with_packed_weights(tmp_path):
    facts = read_facts(write_safetensors(tmp_path / "m"))
    assert (facts.layers, facts.kv_heads, facts.context_tokens) == (4, (), None)
    assert "no config.json" in facts.remarks[0]
    folder = tmp_path / "packed"
    folder.mkdir()
    tensors = {"model.layers.0.mlp.up_proj.qweight": np.zeros((8, 64), np.int32),
               "model.layers.0.mlp.up_proj.scales": np.zeros((2, 64), np.float16)}  # fmt: skip
    save_file(tensors, folder / "model.safetensors")
    (folder / "config.json").write_text('{"quantization_config": {"bits": 4}}')
    packed = read_facts(folder)
    assert (packed.parameters, packed.level) == (8 * 64 * 8, "int4")
    assert packed.bits_per_weight == pytest.approx(4 + 2 * 64 * 16 / 4096)


@pytest.mark.parametrize(
    ("config", "words"),
    [
        ({"num_hidden_layers": 5}, "says 5 layers, the tensors have 4"),
        ({"vocab_size": 301}, "says 301 tokens, the table has 300 rows"),
        ({"num_key_value_heads": 4}, "key heads make 64 rows"),
        ({"num_hidden_layers": -1}, "num_hidden_layers is -1"),
        ({"hidden_size": "wide\x1b"}, r"hidden_size is 'wide\x1b'"),
    ],
)
def test_a_configuration_that_contradicts_the_tensors(tmp_path, config, words):
    with pytest.raises(InputError) as caught:
        read_facts(write_safetensors(tmp_path / "m", config=config))
    assert words in caught.value.what


def test_faulty_indexes(tmp_path):
    folder = write_safetensors(tmp_path / "m", config={}, shards=2)
    path = folder / "model.safetensors.index.json"
    whole = json.loads(path.read_text())
    for change, words in (
        ({"weight_map": {}}, "no weight_map"),
        ({"weight_map": {"a": "../../etc/passwd"}}, "not a plain file name"),
        (
            {"weight_map": {**whole["weight_map"], "ghost": "model-00001-of-00002.safetensors"}},
            "disagrees with the shards on 1",
        ),
        ({"weight_map": {**whole["weight_map"], "x": "model-9.safetensors"}}, "1 of 3 shards missing"),
    ):
        path.write_text(json.dumps(change))
        with pytest.raises(InputError, match=words):
            read_facts(folder)
    path.write_text("[" * 100_000)
    with pytest.raises(InputError, match="not JSON"):
        read_facts(folder)


def raw(header, data=b"\0" * 8, length=None):
    text = header if isinstance(header, bytes) else json.dumps(header).encode()
    return struct.pack("<Q", len(text) if length is None else length) + text + data


def entry(kind="F16", shape=(2, 2), offsets=(0, 8)):
    return {"dtype": kind, "shape": list(shape), "data_offsets": list(offsets)}


LIES = {
    "empty": (b"", "truncated"),
    "header of terabytes": (raw({}, length=2**43), "claims a header of 8,796,093,022,208 bytes"),
    "no JSON": (raw(b"berths"), "not JSON"),
    "deep JSON": (raw(b"[" * 50_000), "not JSON"),
    "no object": (raw(b"[]"), "not a JSON object"),
    "beyond the file": (raw({"w": entry(offsets=(0, 99), shape=(99,), kind="I8")}), "ends at byte 99 of 8"),
    "backwards": (raw({"w": entry(offsets=(8, 0))}), "truncated or lies"),
    "wrong size": (raw({"w": entry(shape=(3, 3))}), "8 bytes for 9 of F16"),
    "overlap": (raw({"a": entry(shape=(2,), offsets=(0, 4)), "b": entry(shape=(2,), offsets=(2, 6))}), "overlap"),
    "odd entry": (raw({"w\x1b": {"dtype": 3}}), r'tensor "w\x1b" wrongly'),
    "negative shape": (raw({"w": entry(shape=(-2, -2))}), "wrongly"),
    "truth for a number": (raw({"w": entry(shape=(True, 4))}), "wrongly"),
    "nothing in it": (raw({"__metadata__": {}}), "no tensors"),
}


@pytest.mark.parametrize("name", LIES)
def test_a_safetensors_header_that_lies(tmp_path, name):
    content, words = LIES[name]
    (tmp_path / "model.safetensors").write_bytes(content)
    with pytest.raises(InputError) as caught:
        read_facts(tmp_path)
    assert words in caught.value.what


def test_an_unknown_dtype_counts_by_its_bytes(tmp_path):
    (tmp_path / "model.safetensors").write_bytes(raw({"w": entry(kind="Q7", shape=(4,), offsets=(0, 8))}))
    facts = read_facts(tmp_path)
    assert (facts.bits_per_weight, facts.level) == (16, "q7")


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=200)
@given(st.binary(max_size=300) | st.text(max_size=200).map(lambda t: raw(t.encode("utf-8", "replace"))))
def test_whatever_the_bytes_the_end_is_facts_or_one_error(tmp_path, content):
    for name, start in (("m.safetensors", b""), ("m.gguf", b"GGUF\3\0\0\0")):
        path = tmp_path / name
        path.write_bytes(start + content)
        try:
            read_facts(path)
        except InputError as err:
            assert str(path) in err.where


def test_places_that_hold_no_model(tmp_path):
    (tmp_path / "loop").symlink_to(tmp_path / "loop")
    (tmp_path / "empty").mkdir()
    (tmp_path / "notes.txt").write_text("tide tables")
    (tmp_path / "two").mkdir()
    for name in ("a.gguf", "b.gguf"):
        (tmp_path / "two" / name).write_bytes(b"GGUF")
    for name, words in (
        ("absent", "no such file"), ("loop", "link|cannot be read"), ("empty", "holds no weights"),
        ("notes.txt", "not a weights file"), ("two", "2 files that end in .gguf"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=words):
            read_facts(tmp_path / name)


@pytest.mark.parametrize(
    ("written", "allowed", "answer"),
    [
        ("mit", ["MIT"], True),
        ("MIT OR GPL-3.0-only", ["MIT"], True),
        ("MIT AND GPL-3.0-only", ["MIT"], False),
        ("(MIT OR ISC) AND Apache-2.0", ["apache-2.0", "isc"], True),
        ("dune-community-2", ["MIT"], None),
        ("MIT AND (", ["MIT"], None),
        (None, ["MIT"], None),
        (["MIT"], ["MIT"], None),
    ],
)
def test_licences_against_a_policy(written, allowed, answer):
    assert is_allowed(read_licence(written), allowed) is answer


def test_a_policy_that_spdx_does_not_know_is_refused():
    with pytest.raises(InputError, match="not an SPDX licence"):
        check_policy(["MIT", "free"])
