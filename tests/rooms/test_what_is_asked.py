"""What each kind of exercise sends to a model; what a program leaves behind is read, never unpacked."""

import io
import tarfile
from pathlib import Path

import pytest

from kettlefield.campaign.prompts import is_bare, next_turn, render_exercise, reply_text
from kettlefield.core.values import compare_values
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.languages.packages import Packages, find_packages
from kettlefield.plan.tables import PromptingTable
from kettlefield.sandbox.job import MAX_EXPORT_BYTES, split_exports
from kettlefield.suite.loader import find_suite, load_suite

SUITE = {exercise.id: exercise for exercise in load_suite(CHECKS, find_suite("berthdesk", Path())).exercises}
CHAT = PromptingTable()
INFILL = PromptingTable(style="infill", infill_markers=("<P>", "<S>", "<M>"))


def asked(exercise_id, prompting=CHAT):
    return render_exercise(SUITE[exercise_id], prompting).messages[-1]["content"]


@pytest.mark.parametrize(
    ("exercise_id", "pieces"),
    [
        ("last-berth", ["`answer.py`:\n\n```python\ndef free_berths", "Reply with the complete Python code"]),
        ("pilot-fee", ["Before the gap:\n\n```python\n", "After the gap:\n\n```python\n"]),
        ("slack-water", ["```python\ndef slack_minutes", "Reply with the complete Python code"]),
        ("tariff-files", ["Reply with the complete files `till.py`, `tariff.py`, each in a code block of its own"]),
        ("explain-pence", ["Reply in plain prose."]),
        ("rope-lengths", ["Environment, any of: Python ", "Rust ", "in one code block that names its language."]),
        ("fare-pivot", ["standard library, pandas "]),
    ],
)
def test_an_exercise_shows_what_it_gives_and_says_what_form_it_wants(exercise_id, pieces):
    text = asked(exercise_id)
    assert all(piece in text for piece in pieces), text


def test_a_text_names_no_environment_and_no_expected_fact():
    text = asked("explain-locks")
    assert "Environment" not in text and "deadlock" not in text.lower()


def test_a_model_that_only_continues_gets_the_bare_opening_unless_something_follows_the_gap():
    plain = PromptingTable(style="continuation")
    assert asked("slack-water", plain) == SUITE["slack-water"].opening
    assert is_bare(SUITE["slack-water"], plain) and not is_bare(SUITE["pilot-fee"], plain)
    assert asked("pilot-fee", INFILL) == f"<P>{SUITE['pilot-fee'].opening}<S>{SUITE['pilot-fee'].closing}<M>"
    assert reply_text("x = 1\n<S>more", SUITE["pilot-fee"], INFILL) == "x = 1\n"
    assert reply_text("words</s>", SUITE["explain-pence"], plain) == "words"
    assert asked("explain-pence", plain).endswith("Answer:")


def test_a_follow_up_turn_says_its_form_to_a_model_that_chats():
    words = next_turn(SUITE["kiosk-till"], 2, CHAT)
    assert words.startswith("Also keep a running account") and words.endswith("in one code block.")
    assert next_turn(SUITE["kiosk-till"], 2, PromptingTable(style="continuation")).endswith("sorted by name.")


def archive(*members):
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for name, kind, data in members:
            info = tarfile.TarInfo(name)
            info.type, info.size, info.linkname = kind, len(data), "/etc/passwd"
            tar.addfile(info, io.BytesIO(data))
    return out.getvalue()


def test_only_plain_files_of_bounded_size_come_out_of_what_a_program_left():
    members = (
        ("a.txt", tarfile.REGTYPE, b"ebb"),
        ("link", tarfile.SYMTYPE, b""),
        ("hard", tarfile.LNKTYPE, b""),
        ("pipe", tarfile.FIFOTYPE, b""),
        ("big", tarfile.REGTYPE, b"x" * (MAX_EXPORT_BYTES + 1)),
    )
    head, found = split_exports(b"frames\nn files\n" + archive(*members), "n")
    assert (head, found) == (b"frames", {"a.txt": b"ebb"})


@pytest.mark.parametrize("results", [b"", b"\nother files\nx", b"\nn files\n", b"\nn files\ngarbage" * 90])
def test_a_damaged_archive_leaves_nothing(results):
    assert split_exports(results, "n")[1] == {}


def test_packages_come_with_what_they_need_and_nothing_else():
    found = find_packages(("pandas",))
    assert isinstance(found, Packages)
    tops = {Path(path).name.split(".")[0] for path in found.mounts}
    assert {"pandas", "numpy", "dateutil"} <= tops
    assert not {"rich", "aiohttp", "pytest", "kettlefield"} & tops


def test_a_way_of_comparing_that_is_none_is_the_callers_mistake():
    with pytest.raises(ValueError, match="wanted equal"):
        compare_values(1, 1, how="nearly")
    assert not compare_values(True, [0, 2], how="within")
    assert not compare_values(5, "5", how="pattern")
