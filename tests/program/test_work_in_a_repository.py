"""Tickets put to simulated servers by the installed program: both forms of calls, and what is shown of the runs."""

import json
import shutil

import pytest
from conftest import STANDIN

from kettlefield.suite.loader import find_suite

TICKETS = ("rest-between-duties", "drop-loyalty-card")


@pytest.fixture(scope="module")
def campaign(tmp_path_factory, run_cli):
    """One ticket campaign: calls by functions, by blocks, and one server that lacks what the plan wants."""
    from pathlib import Path

    from kettlefield.demo.simulated_folder import CARD
    from kettlefield.demo.simulated_models import MODELS, write_weights

    folder = tmp_path_factory.mktemp("tickets")
    built_in = find_suite("berthdesk-tickets", Path())
    suite = folder / "berthdesk-tickets"
    for name in (*TICKETS, "workspaces"):
        shutil.copytree(built_in / name, suite / name)
    shutil.copy(built_in / "suite.toml", suite)
    (folder / "card").mkdir()
    fast = CARD.replace("960e9", "4e12").replace("load_bytes_s = 3e9", "load_bytes_s = 100e9")
    (folder / "card" / "card.toml").write_text(fast)
    command = [*STANDIN, "--suite", "berthdesk-tickets"]
    refusing, ignoring = [*command, "--tools", "refuse"], [*command, "--tools", "ignore"]
    text = f"""title = "Tickets"
suite = "berthdesk-tickets"
record = "record.db"
[rig]
accelerator = "simulated:card"
disturbed_above = 64.0
[server]
command = {json.dumps(command)}
context = 8192
ready_within = "30 s"
[sampling]
seed = 11
max_tokens = 3000
[speed]
requests = 0
"""
    for model, level, extra in (
        ("marram-1.2b", "f16", "reference = true"),
        ("marram-1.2b", "q8_0", f'command = {json.dumps(refusing)}\nedit_tools = ["write_file"]'),
        ("marram-1.2b", "q4_k_m", f'command = {json.dumps(ignoring)}\ncall_form = "functions"'),
        ("kelpling-400m", "q2_k", ""),
    ):
        path = folder / f"{model}-{level}.gguf"
        write_weights(MODELS[model], level, path)
        text += f'[[candidate]]\nmodel = "{model}"\nlevel = "{level}"\nweights = "{path.name}"\n{extra}\n'
    (folder / "plan.toml").write_text(text)
    done = run_cli("qualify", "plan.toml", cwd=folder)
    assert done.code == 0, done.err
    return folder, done


def test_what_each_solved_and_what_it_took(campaign, run_main):
    folder, done = campaign
    document = run_main("compare", folder / "record.db", "--part", "workspaces", "--json").json
    rows = {row["candidate"]: row for row in document["candidates"]}
    assert document["simulated"]
    assert set(rows) == {"marram-1.2b@f16", "marram-1.2b@q8_0", "kelpling-400m@q2_k"}
    first, blocks, weak = rows.values()
    assert (first["forms"], blocks["forms"]) == (["functions"], ["blocks"])
    assert (first["solved"], first["ended"]) == (2, {"finished": 2})
    assert first["calls_per_solved"] >= 4
    assert first["lines_beside_own_p50"] == 1
    assert set(blocks["calls"]) <= {
        "list_files",
        "read_file",
        "write_file",
        "delete_file",
        "run",
        "finish",
        "unreadable",
    }
    assert weak["solved"] < weak["runs"]
    # a server without function calling: said once; tools go into the prompt, or nothing is measured
    assert "tools are described in the prompt and called in JSON blocks" in done.err
    assert "exercises in a workspace are not measured" in done.err
    shown = run_main("compare", folder / "record.db", "--part", "workspaces").out
    for title in ("Work in a repository", "Calls by tool", "Solved by the longest prompt of a run", "How runs ended"):
        assert title in shown
    whole = run_main("compare", folder / "record.db", "--json").json["candidates"]
    assert {row["candidate"]: row["trials"] for row in whole}["marram-1.2b@q4_k_m"] == 0


def test_one_run_turn_by_turn(campaign, run_main):
    folder, _ = campaign
    trials = run_main("trials", folder / "record.db", "--json").json["trials"]
    chosen = next(t for t in trials if t["exercise"] == TICKETS[0] and t["candidate"] == "marram-1.2b@f16")
    opened = run_main("trials", folder / "record.db", "--open", chosen["id"])
    assert "--- turn 1, prompt" in opened.out
    assert "> read_file path='desk/crew.py'" in opened.out
    assert "+            rest = after.begins - before.ends" in opened.out
    assert "ended by finished" in opened.out
    run = run_main("trials", folder / "record.db", "--open", chosen["id"], "--json").json["trial"]["work"]
    assert chosen["completion_tokens"] == run["completion_tokens"] > 100
    prompts = [turn["prompt_tokens"] for turn in run["turns"]]
    assert prompts == sorted(prompts)
    page = run_main("report", folder / "record.db", "--out", folder / "report")
    assert page.code == 0, page.err
    html = (folder / "report" / "report.html").read_text()
    assert "the run, turn by turn" in html
    assert "Work in a repository" in html


def test_the_campaign_is_finished_but_for_what_cannot_be_measured(campaign, run_cli):
    folder, _ = campaign
    again = run_cli("qualify", "plan.toml", cwd=folder)
    assert again.code == 0
    assert "exercises in a workspace are not measured" in again.err
    plan = (folder / "plan.toml").read_text()
    (folder / "odd.toml").write_text(plan.replace("[sampling]", '[prompting]\nstyle = "continuation"\n[sampling]', 1))
    refused = run_cli("qualify", "odd.toml", cwd=folder)
    assert refused.code == 2
    assert "is set in a workspace" in refused.err
