"""Drafted plans from facts, prompts as they are sent, and what the terminal is given."""

import io
import tomllib
from pathlib import Path

import pytest
from exercises import grader

from kettlefield.campaign.prompts import REPAIRABLE, follow_up, render_exercise, render_text, repair_words
from kettlefield.core.errors import InputError, RigError, ServerError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.plan.criteria import NOT_SET
from kettlefield.plan.drafting import Serving, draft_plan, model_name
from kettlefield.plan.tables import PromptingTable
from kettlefield.suite.loader import find_suite, load_exercise
from kettlefield.views import terminal
from kettlefield.weights.facts import Licence, ModelFacts, TensorFacts, group_of, layer_of

FARE = load_exercise(CHECKS, find_suite("berthdesk", Path()) / "fare-quote")


def facts(
    model="Dune 1B Q8_0", level="q8_0", *, size=10**9, context=32768, template=True, markers=None, kv_heads=(4,) * 8
):
    tensor = TensorFacts(name="blk.0.attn_q.weight", parameters=10**9, size_bytes=size, type_name="Q8_0")
    return ModelFacts(
        path=Path("dune.gguf"), files=(Path("dune.gguf"),), format="GGUF", model=model, architecture="dune", level=level,
        tensors=(tensor,), weights_bytes=size, context_tokens=context, layers=len(kv_heads), heads=8, kv_heads=kv_heads,
        head_size=128, value_size=128, windows=(None,) * len(kv_heads), shared_layers=0, experts=None, experts_used=None,
        vocabulary=1000, chat_template=template, infill_markers=markers or {}, licence=Licence(written=None, spdx=None),
        remarks=(),
    )  # fmt: skip


def draft(*models, names=None, budget=4 * 2**30, **options):
    return draft_plan(
        models,
        names=names or [f"{number}.gguf" for number in range(len(models))],
        serving=Serving(command=tuple(options.get("command") or ())),
        suite="berthdesk",
        budget_bytes=budget,
        budget_source=options.get("source", "as given"),
        accelerator="none",
        overhead_bytes=options.get("overhead"),
    )


def test_what_a_server_takes_by_itself_decides_what_fits_and_stands_in_the_plan():
    small = facts("Dune 1B", "q8_0")
    budget = small.weights_bytes + 200 * 2**20  # the rule of thumb alone takes more than is left
    with pytest.raises(InputError, match="none of the files fits"):
        draft(small, budget=budget)
    text = draft(small, budget=budget, overhead=2**20).text
    assert tomllib.loads(text)["memory"] == {"overhead": "1048576 B"} and "[memory]" not in draft(small).text


@pytest.mark.parametrize(
    ("title", "level", "name"),
    [
        ("Dune 1B Q8_0", "q8_0", "dune-1b"),
        ("Dune 1.2B (simulated)", "f16", "dune-1.2b"),
        ("Dune_Coder-Instruct q4_k_m", "q4_k_m", "dune-coder-instruct"),
        ("\x1b[31m", "f16", "31m"),
        ("---", "f16", "model"),
    ],
)
def test_model_names_are_plain(title, level, name):
    assert model_name(facts(title, level)) == name


def test_the_reference_is_the_level_with_most_bits_of_each_model():
    both = draft(facts(size=5 * 10**8, level="q4_0", model="Dune 1B"), facts(model="Dune 1B"), facts("Reed 2B", "q8_0"))
    found = tomllib.loads(both.text)["candidate"]
    assert [(c["model"], c["level"], c.get("reference", False)) for c in found] == [
        ("dune-1b", "q4_0", False), ("dune-1b", "q8_0", True), ("reed-2b", "q8_0", True),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("budget", "context"),
    [
        # cache a token: 8 layers x 4 heads x 256 x 2 bytes = 16 KiB; weights 0.93 GiB, overhead 0.27 GiB
        (4 * 2**30, 16384),
        (1_400 * 2**20, 8192),
        (1_300 * 2**20, 4096),
    ],
)
def test_the_context_is_the_longest_that_fits(budget, context):
    assert tomllib.loads(draft(facts(), budget=budget).text)["server"]["context"] == context


def test_the_style_follows_the_header():
    marks = {"prefix": "<P>", "suffix": "<S>", "middle": '<"M\\>'}
    models = [facts("A 1B"), facts("B 1B", template=False), facts("C 1B", template=False, markers=marks)]
    found = tomllib.loads(draft(*models).text)["candidate"]
    assert [c.get("style") for c in found] == [None, "continuation", "infill"]
    assert found[2]["infill_markers"] == ["<P>", "<S>", '<"M\\>']


def test_hostile_names_stay_text():
    nasty = 'x"\n[[criterion]]\nmeasure = "load_s"\nat_most = "9 h"\n#'
    text = draft(facts(nasty, nasty), names=[nasty], source=nasty).text
    found = tomllib.loads(text)
    assert found["candidate"][0]["weights"] == nasty
    assert len(found["criterion"]) == 4 and all(NOT_SET in c.values() for c in found["criterion"])


def test_what_cannot_fit_is_left_out_with_the_reason():
    found = draft(facts(size=8 * 10**9), facts("Reed 1B"))
    assert len(tomllib.loads(found.text)["candidate"]) == 1
    assert "0.gguf: needs 7.8" in found.left_out[0] and "# left out: 0.gguf" in found.text
    with pytest.raises(InputError, match="none of the files fits"):
        draft(facts(size=8 * 10**9))


@pytest.mark.parametrize(
    ("name", "group", "layer"),
    [
        ("blk.7.attn_q.weight", "attention", 7),
        ("model.layers.12.self_attn.q_proj.weight", "attention", 12),
        ("model.layers.3.mlp.experts.5.up_proj.weight", "experts", 3),
        ("blk.2.ffn_gate_exps.weight", "experts", 2),
        ("blk.2.ffn_down.weight", "feed-forward", 2),
        ("blk.2.attn_norm.weight", "norms", 2),
        ("transformer.h.4.ln_1.weight", "norms", 4),
        ("token_embd.weight", "embedding", None),
        ("output.weight", "output", None),
        ("lm_head.weight", "output", None),
        ("rope_freqs.weight", "other", None),
        ("layers.99999999999.x", "other", None),
    ],
)
def test_tensors_are_grouped_by_the_names_of_both_formats(name, group, layer):
    assert (group_of(name), layer_of(name)) == (group, layer)


def test_a_prompt_names_the_environment_and_the_form_of_the_answer():
    chat = render_exercise(FARE, PromptingTable(system="You work at the berth desk."))
    assert [m["role"] for m in chat.messages] == ["system", "user"]
    text = chat.messages[1]["content"]
    assert text.startswith(FARE.prompt.strip()) and "\n\nEnvironment: Python 3." in text
    assert text.endswith("Reply with the complete Python code in one code block.")
    bare = render_exercise(FARE, PromptingTable(environment_line=False, style="continuation"))
    assert not bare.is_chat and "Environment" not in bare.messages[0]["content"]
    assert bare.messages[0]["content"].endswith("The complete Python code:\n\n```python\n")
    infill = PromptingTable(style="infill", infill_markers=("<P>", "<S>", "<M>"), system="s")
    assert render_text("ask", infill, suffix="after").messages[0]["content"] == "<P>s\n\nask<S>after<M>"


def test_what_goes_back_for_repair_holds_the_error_and_not_the_expected_value():
    wrong = grader().grade_files(FARE, {"answer.py": "def fare_quote(*a):\n    return -1\n"})
    assert wrong.outcome in REPAIRABLE
    told = repair_words(wrong)
    assert "fare_quote(1, 0, 0, false) gave -1, which is wrong" in told
    assert "1240" not in told and "1240" in wrong.checks[0].detail
    broken = grader().grade_files(FARE, {"answer.py": "def fare_quote(:\n"})
    assert "does not build: SyntaxError: invalid syntax" in repair_words(broken)
    chat = follow_up(render_exercise(FARE, PromptingTable()), "my reply", told, FARE, PromptingTable())
    assert chat.messages[1:] == ({"role": "assistant", "content": "my reply"}, {"role": "user", "content": told})
    plain = PromptingTable(style="continuation")
    text = follow_up(render_exercise(FARE, plain), "x = 1", told, FARE, plain).messages[0]["content"]
    assert f"x = 1\n```\n\n{told}" in text and text.endswith("```python\n")


def test_colour_goes_to_a_terminal_only_and_never_with_no_color(monkeypatch):
    class Terminal(io.StringIO):
        def isatty(self):
            return True

    for stream, no_color, coloured in ((Terminal(), "", True), (Terminal(), "1", False), (io.StringIO(), "", False)):
        monkeypatch.setattr("sys.stdout", stream)
        monkeypatch.setenv("NO_COLOR", no_color)
        monkeypatch.setenv("TERM", "xterm-256color")
        terminal.make_console().print(terminal.status_text("approved").append(terminal.safe(" \x1b[31m[bold]x")))
        assert ("\x1b[" in stream.getvalue()) is coloured
        assert "\\x1b[31m[bold]x" in stream.getvalue()  # what others wrote is neither markup nor an escape


def test_errors_are_one_line_and_survive_a_trip_between_processes():
    import pickle

    for kind in (InputError, ServerError, RigError):
        error = kind("is -3 s", "plan.toml [grading]", "Write a duration.")
        assert str(error) == "plan.toml [grading]: is -3 s. Write a duration."
        assert str(pickle.loads(pickle.dumps(error))) == str(error)
