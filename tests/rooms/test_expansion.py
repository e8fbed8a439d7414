"""Candidates from a pattern of files and from settings that vary: names, references, what is left out, bad words."""

import tomllib

import pytest

from kettlefield.core.errors import InputError
from kettlefield.demo.simulated_models import LEVEL_TYPES, MODELS, write_weights
from kettlefield.plan.criteria import terms_of_text
from kettlefield.plan.plan import read_plan

HEAD = """
title = "Many"
suite = "berthdesk"
record = "record.db"
[rig]
accelerator = "none"
memory_budget = "2 GiB"
[server]
command = ["serve", "{weights}", "{port}"]
context = 2048
"""


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("many")
    (folder / "models").mkdir()
    for model in MODELS.values():
        for level in LEVEL_TYPES:
            write_weights(model, level, folder / "models" / f"{model.name}-{level}.gguf")
    return folder


def names_of(folder, candidate, *, keep_all=False):
    path = folder / "plan.toml"
    path.write_text(f"{HEAD}\n[[candidate]]\n{candidate}\n")
    plan = read_plan(path, keep_all=keep_all)
    return [one.name for one in plan.candidates], plan


def test_a_pattern_makes_one_candidate_a_file_with_the_most_bits_as_reference(folder):
    names, plan = names_of(folder, 'weights = "models/*.gguf"\nreference = true')
    # the largest cannot fit the budget, and what is left out is told with the reason
    assert names == [
        *(f"kelpling-400m@{level}" for level in ("f16", "q2_k", "q4_k_m", "q8_0")),
        *(f"marram-1.2b@{level}" for level in ("q2_k", "q4_k_m", "q8_0")),
    ]
    (left_out,) = plan.left_out
    assert left_out.startswith("marram-1.2b@f16: needs 2.") and left_out.endswith("budget 2.00 GiB")
    assert [one.name for one in plan.candidates if one.reference] == ["kelpling-400m@f16"]
    kept, whole = names_of(folder, 'weights = "models/*.gguf"\nreference = true', keep_all=True)
    assert len(kept) == 8 and whole.left_out == ()
    assert sum(one.reference for one in whole.candidates) == 2
    # a record keeps the plan's text, whose terms are read where the files are not
    assert terms_of_text(plan.text, folder / "record.db").budget_bytes == 2 * 2**30


def test_settings_that_vary_multiply_and_stand_in_the_names(folder):
    text = (
        'weights = "models/kelpling*"\nexclude = ["*q2_k*", "*f16*"]\nreference = true\n'
        "vary = { kv_bits = [16, 4], concurrency = [1, 8], temperature = [0.2] }"
    )
    names, plan = names_of(folder, text)
    variants = [f"+kv{bits}+c{count}+temperature=0.2" for bits in (16, 4) for count in (1, 8)]
    assert names == [f"kelpling-400m@{level}{one}" for level in ("q4_k_m", "q8_0") for one in variants]
    assert [one.server.kv_bits for one in plan.candidates[:4]] == [16, 16, 4, 4]
    assert [one.name for one in plan.candidates if one.reference] == [f"kelpling-400m@q8_0{variants[0]}"]
    assert {f"candidate {name}" for name in names} <= set(plan.parts)


def test_a_file_named_by_itself_says_model_and_level_too(folder):
    names, plan = names_of(folder, 'weights = "models/marram-1.2b-f16.gguf"')
    assert names == ["marram-1.2b@f16"] and plan.left_out == ()  # written by itself, it is not left out
    with pytest.raises(InputError, match="none of the candidates can run"):
        names_of(folder, 'weights = "models/marram-1.2b-f16*"')


def test_a_context_beyond_the_window_is_left_out(folder):
    names, plan = names_of(folder, 'weights = "models/kelpling-400m-q8_0.gguf"\nvary = { context = [2048, 99999] }')
    assert names == ["kelpling-400m@q8_0+ctx2048"]
    assert plan.left_out == ("kelpling-400m@q8_0+ctx99999: its window is 8,192 tokens, asked for are 99,999",)


@pytest.mark.parametrize(
    ("candidate", "said"),
    [
        ('weights = "nowhere/*.gguf"', "matches no file"),
        ('weights = "models/*"\nlevel = "q8_0"', "level stands beside 8 files"),
        ('weights = "models/*"\nmodel = "one"', "are both one@f16"),
        ('weights = "models/*"\nvary = { kv_bit = [16] }', 'vary holds "kv_bit"'),
        ('weights = "models/*"\nvary = { kv_bits = 16 }', "vary kv_bits is 16"),
        ('weights = "models/*"\nvary = { kv_bits = [] }', r"vary kv_bits is \[\]"),
        ('weights = "models/*"\nvary = { kv_bits = [16, 16] }', "holds a value twice"),
        ('weights = "models/*"\nvary = { kv_bits = [16, 5] }', "kv_bits"),
        ('weights = "models/*"\nvary = "kv_bits"', "vary is 'kv_bits'"),
        ('weights = "models/*"\nexclude = 3', "exclude is 3"),
        ('weights = "models/*"\nexclude = "*"', "all are excluded"),
        (f'weights = "models/*"\nvary = {{ concurrency = {list(range(1, 60))} }}', "stands for 472 candidates"),
        ('model = "one"\nvary = { kv_bits = [16] }', "level"),
    ],
)
def test_bad_words_are_named_where_they_stand(folder, candidate, said):
    with pytest.raises(InputError, match=said) as caught:
        names_of(folder, candidate)
    assert "plan.toml" in str(caught.value)
    assert tomllib.loads(candidate)
