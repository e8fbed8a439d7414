"""What a person meets at a prompt: help, suggestions, completion, the live view, a trial in colour."""

import io
import os
import pty
import subprocess

import pytest
from records import PASSED, WRONG, Writer
from rich.console import Console

from kettlefield.cli import progress
from kettlefield.cli.commands import COMMANDS
from kettlefield.core.outcome import Outcome


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_says_in_two_lines_what_it_is_for_and_shows_it(run_cli, command):
    out = run_cli(command, "--help").out
    usage, description, *_ = out.split("\n\n")
    assert usage.startswith(f"usage: kettlefield {command}")
    assert len(description.splitlines()) == 2
    assert f"examples:\n  kettlefield {command}" in out


def test_alone_it_shows_the_order_of_work(run_cli):
    out = run_cli().out
    assert "the order of work:\n  1. kettlefield rig" in out
    assert all(f"  {name}" in out and line.split(",")[0][:30] in out for name, line in COMMANDS.items())


@pytest.mark.parametrize(
    ("words", "answer"),
    [
        (
            ("comprae", "x"),
            'kettlefield: there is no command "comprae"; did you mean "compare"? `kettlefield --help`',
        ),
        (("compare", "x", "--jsn"), 'kettlefield compare: unknown option "--jsn"; did you mean "--json"?'),
        (("compare", "x", "--part", "sped"), '--part knows no "sped"; did you mean "speed"?'),
        (("suite", "lst"), 'kettlefield suite: PART knows no "lst"; did you mean "list"?'),
        (("rig", "more"), 'kettlefield rig: one word too many: "more".'),
        (("compare",), "the following arguments are required: record."),
        (("zzz",), 'there is no command "zzz".'),
    ],
)
def test_a_mistyped_word_is_answered_in_one_line(run_cli, words, answer):
    done = run_cli(*words)
    assert (done.code, done.out, done.err.count("\n")) == (2, "", 1)
    assert answer in done.err


@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("kettlefield comp", {"compare "}),
        ("kettlefield compare r --pa", {"--part", "--pairs"}),
        ("kettlefield suite l", {"list "}),
    ],
)
def test_a_shell_is_told_how_a_word_goes_on(program, tmp_path, line, offered):
    out = tmp_path / "offered"
    env = {
        **os.environ, "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "COMP_LINE": line, "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE_STDOUT_FILENAME": str(out),
    }  # fmt: skip
    subprocess.run([program], env=env, check=False, timeout=60, capture_output=True)
    assert set(out.read_text().split("\n")) == offered


def test_the_live_view_tells_where_the_campaign_is_and_how_the_candidate_fares(monkeypatch):
    stream = io.StringIO()
    console = Console(file=stream, force_terminal=True, width=120, color_system=None, markup=False)
    monkeypatch.setattr(progress, "make_console", lambda stderr: console)
    with progress.CampaignProgress() as view:
        view.planned(12, 2)
        view.phase("m@q4_k_m", "answers")
        view.trial_done("m@q4_k_m", "e1", Outcome.PASSED)
        view.trial_done("m@q4_k_m", "e2", Outcome.LOOPING)
        view.seen(61.4, 3 * 2**30)
        view.seen(None, 4 * 2**30)
        console.print(view._rendered())
    shown = stream.getvalue()
    assert "m@q4_k_m: asking and grading" in shown and "4/12" in shown
    assert "1 passed  1 looping  61 tokens/s  4.00 GiB in use" in shown
    assert "m@q4_k_m: 1 passed, 1 looping in" in shown  # what stays when the candidate is done


@pytest.fixture
def repaired(tmp_path):
    writer = Writer(tmp_path / "record.db")
    ids = writer.candidate("m@f16")
    writer.trial(ids, 0, WRONG, PASSED, code="def berth(n):\n    return n\n")
    return writer.path


def test_a_trial_is_shown_in_colour_and_its_attempts_as_a_change(repaired, program, run_cli):
    plain = run_cli("trials", repaired, "--open", "1").out
    assert (
        "\x1b" not in plain
        and "--- answer.py, changed since the attempt before" in plain
        and "nothing changed" in plain
    )
    assert plain.count("--- sent (user)") == 2
    ours, theirs = pty.openpty()
    subprocess.run(
        [program, "trials", repaired, "--open", "1"],
        stdout=theirs,
        check=True,
        timeout=60,
        env={**os.environ, "TERM": "xterm-256color"},
    )
    os.close(theirs)
    shown = os.read(ours, 100_000).decode()
    os.close(ours)
    line = next(line for line in shown.splitlines() if "berth" in line and "def" in line)
    assert line.count("\x1b[") > 2  # words of a kind in a colour of their own
