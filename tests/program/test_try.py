"""``kettlefield try`` on a real little model, from nothing but a weights file and a server's command."""

import json
import signal
import subprocess
import time
import tomllib

import pytest

from kettlefield.demo.little.level_files import write_level

SERVER = "{python} -m kettlefield.demo.little --weights {weights} --port {port} --context {context}"
SMALL = ("--suite", "firstlight", "--accelerator", "none")


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("look")
    for level in ("f16", "q2_k"):
        write_level(level, folder / f"{level}.gguf")
    return folder


@pytest.fixture(scope="module")
def looked(folder, run_cli):
    return run_cli("try", "f16.gguf", "--server", SERVER, *SMALL, "--minutes", "3", "--json", cwd=folder)


def test_from_a_file_and_a_command_to_one_table_and_a_plan_to_edit(looked, folder, run_cli):
    assert looked.code == 0, looked.err
    (one,) = looked.json["candidates"]
    assert one["candidate"] == "eelgrass-1m@f16" and one["trials"] == 32 and one["solved"] > 15
    assert [cell["n"] for cell in one["latency"]] == [5, 5] and one["load_s"] > 0 and one["peak_bytes"] > 2**20
    assert looked.json["decided"] is False and looked.json["findings"] and len(looked.json["findings"]) <= 3
    again = run_cli("try", "f16.gguf", "--server", SERVER, *SMALL, "--minutes", "3", cwd=folder)
    assert again.code == 0 and "32 trials" in again.err and "asking" not in again.err  # nothing is asked twice
    assert "Nothing was decided" in again.out and "kettlefield qualify first-look/plan.toml" in again.out
    # the plan to edit is a campaign's, and cannot be run before a person has set its criteria
    plan = tomllib.loads((folder / "first-look" / "plan.toml").read_text())
    assert plan["record"] == "record.db" and plan["candidate"][0]["weights"] == "../f16.gguf"
    refused = run_cli("qualify", "first-look/plan.toml", cwd=folder)
    assert refused.code == 2 and "criteri" in refused.err


def test_broken_off_it_shows_what_is_known(folder, program):
    command = (program, "try", "f16.gguf", "q2_k.gguf", "--server", SERVER, *SMALL, "-o", "off")
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        for line in process.stderr:
            if "asking and grading" in line:
                time.sleep(1.0)
                process.send_signal(signal.SIGINT)
                break
        out, err = process.communicate(timeout=120)
    assert process.returncode == 130, err
    assert "eelgrass-1m@f16" in out and "Not come to: eelgrass-1m@q2_k" in out and "Traceback" not in err


def test_time_that_is_over_and_a_server_that_fails_are_told(folder, run_cli):
    done = run_cli("try", "q2_k.gguf", "--server", SERVER, *SMALL, "--minutes", "0.05", "-o", "short", cwd=folder)
    assert done.code == 0 and "its 3.00 s were over; " in done.out and "trials were not asked" in done.out
    failed = run_cli("try", "f16.gguf", "--server", "false {weights} {port}", *SMALL, "-o", "failed", cwd=folder)
    assert failed.code == 3 and "Its server gave no answer: eelgrass-1m@f16" in failed.out


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--server", "serve {weights}"], "--server: does not hold {port}"),
        (["--server", "serve {port}"], "--server: does not hold {weights}"),
        (["--server", " "], "--server: is empty"),
        (["--server", "serve '{port}"], "cannot be split into words"),
        (["--server", SERVER, "--minutes", "0"], "--minutes: is 0"),
        (["--server", SERVER, "--minutes", "inf"], "--minutes: is inf"),
        (["--server", SERVER, "--suite", "nosuch"], 'there is no suite "nosuch"'),
        (["--server", SERVER, "also.gguf"], "also.gguf are both eelgrass-1m@f16"),
        (["--url", "127.0.0.1:9"], '--url: is "127.0.0.1:9"'),
        (["--server", SERVER, "--served-model", "x"], "--served-model: is for a running server"),
        (["--url", "http://127.0.0.1:9", "also.gguf"], "--url: 2 files, but one running server"),
        (["--server", SERVER, "--budget", "1 MiB"], "none of the files fits"),
        ([], "one of the arguments --server --url is required"),
    ],
)
def test_bad_words_are_refused_in_one_line(folder, run_main, words, said, monkeypatch):
    monkeypatch.chdir(folder)
    (folder / "also.gguf").write_bytes((folder / "f16.gguf").read_bytes())
    files = ["f16.gguf", *(word for word in words if word.endswith(".gguf"))]
    done = run_main("try", *files, *(word for word in words if not word.endswith(".gguf")), "-o", "refused")
    assert done.code == 2 and said in done.err and done.err.count("\n") == 1, done.err
    assert not (folder / "refused").exists()


def test_files_that_cannot_fit_are_left_out_with_the_reason(folder, run_cli):
    from kettlefield.demo.simulated_models import MODELS, write_weights

    write_weights(MODELS["marram-1.2b"], "f16", folder / "big.gguf")
    done = run_cli(
        *("try", "f16.gguf", "big.gguf", "--server", SERVER, *SMALL),
        *("--minutes", "0.05", "--budget", "1 GiB", "-o", "fits", "--json"),
        cwd=folder,
    )
    (left_out,) = done.json["left_out"]
    assert "big.gguf: needs 2." in left_out and done.json["findings"][0].startswith("Does not fit: ")
    assert len(done.json["candidates"]) == 1
    assert json.dumps(done.json)
