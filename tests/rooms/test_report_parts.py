"""What the report's sections say and its figures draw, on records whose figures are known by hand."""

import itertools
import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from PIL import Image
from records import FAULT, PASSED, WRONG, Writer

from kettlefield.decision.ledger import sign
from kettlefield.plan.criteria import decide
from kettlefield.record.packing import pack_series
from kettlefield.results.capacity import Floor
from kettlefield.results.series import depth_samples, grid_samples, memory_series
from kettlefield.results.speed import timed_frame
from kettlefield.views import report_page
from kettlefield.views.figures import findings
from kettlefield.views.figures import level_charts as levels
from kettlefield.views.figures import level_charts as outcomes
from kettlefield.views.figures import memory_charts as memory
from kettlefield.views.figures import speed_charts as speed
from kettlefield.views.material import read_material
from kettlefield.views.parts import cut, flat
from kettlefield.views.report_page import build_sections, charts_of
from kettlefield.views.sections.verdict_section import headline as headline_of
from kettlefield.views.style import (
    COLOURS,
    Chart,
    looks_of,
    new_chart,
    save_chart,
    settle,
    svg_file,
    svg_in_page,
    svg_text,
)

MIB = 2**20
PASS = '[[criterion]]\nmeasure = "pass_rate"\nat_least = {}\n'


@pytest.fixture
def write(tmp_path):
    counter = iter(range(9))
    return lambda **options: Writer(tmp_path / f"record{next(counter)}.db", **options)


def material_of(writer):
    return read_material(writer.record, decide(writer.record))


def answered(writer, name, passed, *, of=20, **options):
    ids = writer.candidate(name, **options)
    for exercise in range(of):
        writer.trial(ids, exercise, PASSED if exercise < passed else WRONG)
    return ids


def parts_of(writer):
    return {section.anchor: tuple(flat(section.parts)) for section in build_sections(material_of(writer))}


def tables(parts):
    return {part.title: part for part in parts if part.kind == "table"}


def words(parts):
    return " ".join(" ".join((part.text, *part.items)) for part in parts if part.kind == "words")


@pytest.mark.parametrize(
    ("at_least", "passed", "headline"),
    [
        (0.5, (20, 20), "Approved for self-hosting on this machine: m@f16; 1 more is approved."),
        (0.5, (20, 0), "Approved for self-hosting on this machine: m@f16."),
        (0.5, (0, 12), "Nothing is approved yet: the evidence leaves m@q4_k_m undecided."),
        (0.5, (0, 0), "Nothing is approved: every candidate fails a criterion."),
    ],
)
def test_the_headline_says_the_verdict_in_one_sentence(write, at_least, passed, headline):
    writer = write(exercises=20, criteria=PASS.format(at_least))
    for name, count in zip(("m@f16", "m@q4_k_m"), passed, strict=True):
        writer.memory(answered(writer, name, count), "answers", MIB, 0)
    assert headline_of(material_of(writer)) == headline


def test_the_verdict_says_why_who_signed_and_what_it_holds_for(write):
    writer = write(
        exercises=20, criteria=PASS.format(0.5), rig={"host": {"cpu": "Tern 9", "cores": 8, "memory_bytes": 2**34}}
    )
    writer.memory(answered(writer, "m@f16", 20), "answers", MIB, 0)
    answered(writer, "m@q2_k", 0)
    answered(writer, "other@big", 20, baseline=True)
    found = parts_of(writer)["verdict"]
    rows = tables(found)["Every candidate"]
    assert [list(row) for row in rows.texts()] == [
        ["m@f16", "approved", "all criteria are met, with the least memory of its model"],
        ["m@q2_k", "rejected", "not met: pass_rate at least 0.5"],
    ]
    assert rows.note == "Baselines are not up for approval: other@big."
    assert "Nobody has signed this decision yet." in words(found)
    holds = dict(tables(found)["What it holds for"].texts())
    assert holds["machine"] == "Tern 9, 8 cores, 16.0 GiB memory" and holds["server"] == "server 1"
    sign(writer.record, by="R. Tern", note="the berth desk", verdicts={"m@f16": "approved"})
    found = parts_of(writer)["verdict"]
    assert list(tables(found)["Signed"].texts()[0])[1:4] == ["R. Tern", "m@f16", "the berth desk"]


@pytest.mark.parametrize(
    ("criteria", "passed", "sentence", "carried"),
    [
        (PASS.format(0.5), (20, 19), "m: approve m@f16, the approved one with", ["m@f16"]),
        (PASS.format(0.5), (20, 0), "m: approve m@f16, the only one of its levels that is approved.", ["m@f16"]),
        (
            PASS.format(0.5),
            (3, 0),
            "m: do not approve. The nearest, m@f16, does not meet: pass_rate at least",
            ["m@f16"],
        ),
        (PASS.format(0.5), (11, 10), "m: not decided. m@f16 is undecided: ", ["m@f16"]),
        ("", (20, 20), "m: nothing can be approved, since the plan sets no criteria.", None),
    ],
)
def test_the_first_screen_decides_in_a_sentence_with_the_figures_that_carry_it(
    write, criteria, passed, sentence, carried
):
    writer = write(exercises=20, criteria=criteria)
    for level, solved in zip(("m@f16", "m@q2_k"), passed, strict=True):
        # the reference takes the least here, so that it is chosen where both are approved
        writer.memory(answered(writer, level, solved), "answers", MIB * (1 if level == "m@f16" else 9), 0)
    parts = parts_of(writer)["verdict"]
    assert sentence in words(parts)
    assert [part.chart.name for part in parts if part.kind == "chart"] == ["at-a-glance"]
    figures = tables(parts).get("The figures that carry it")
    heads = None if figures is None else [column.head for column in figures.columns if "@" in column.head]
    assert heads == carried
    assert ("undecided, the evidence is not enough: m@f16, m@q2_k" in words(parts)) == (passed == (11, 10))


def test_the_first_screen_of_several_models_has_them_all_and_says_what_cannot_show(write):
    drop = '[[criterion]]\nmeasure = "pass_rate"\nno_worse_than = "reference"\nmargin = 0.5\n'
    writer = write(exercises=20, criteria=PASS.format(0.1) + drop)
    for number, model in enumerate("abcd"):
        for level, solved in (("f16", 20 - 4 * number), ("q2_k", 1)):
            ids = answered(writer, f"{model}@{level}", solved)
            writer.memory(ids, "answers", MIB * (3 if level == "f16" else 2), 0)
    parts = parts_of(writer)["verdict"]
    carried = [part for part in flat(parts) if part.kind == "table" and part.title == "The figures that carry it"]
    assert [[column.head for column in each.columns if "@" in column.head] for each in carried] == [
        ["a@f16", "b@f16", "c@f16"],
        ["d@f16"],
    ]
    assert (
        words(parts).count("0.5 below reference: d@f16 itself passes 8 of 20: a drop of 0.5 from that means nothing")
        == 1
    )
    assert "c@f16 itself passes" not in words(parts)
    chart = next(part.chart for part in flat(parts) if part.kind == "chart")
    axes = chart.figure.axes[0]
    renderer = FigureCanvasAgg(chart.figure).get_renderer()
    boxes = [each.get_window_extent(renderer) for each in axes.texts]
    assert {each.get_text() for each in axes.texts} >= {"a@f16", "b@f16", "c@f16", "d@f16", "q2_k", "at least"}
    assert not [one for one, other in itertools.combinations(boxes, 2) if one.overlaps(other)]


def test_the_criteria_stand_at_a_glance_and_one_by_one(write):
    text = PASS.format(0.5) + '[[criterion]]\nmeasure = "capacity_rps"\nat_least = 2\n'
    writer = write(exercises=20, criteria=text)
    answered(writer, "m@f16", 20)
    answered(writer, "m@q2_k", 0)
    found = tables(parts_of(writer)["criteria"])
    glance = found["All criteria at a glance"]
    heads = [column.head for column in glance.columns]
    assert heads == ["candidate", "pass_rate at least 0.5", "capacity_rps at least 2"]
    assert [list(row) for row in glance.texts()] == [["m@f16", "met", "undecided"], ["m@q2_k", "not met", "undecided"]]
    one = found["m@q2_k: rejected"]
    assert one.folded and list(one.texts()[0])[1:4] == ["at least 0.5", "0.00 (0.00 to 0.12), n = 20", "not met"]
    assert list(one.texts()[1])[4] == "not measured; it needs [speed.open_loop] ttft"
    assert "sets no criteria" in words(parts_of(plain_record(write))["criteria"])


def plain_record(write):
    writer = write(exercises=2)
    answered(writer, "m@f16", 1, of=2)
    return writer


def test_levels_tell_what_was_lost_and_under_which_other_settings(write):
    writer = write(exercises=4)
    answered(writer, "m@f16", 4, of=4, settings={"sampling": {"temperature": 0.0}})
    answered(writer, "m@q2_k", 1, of=4, settings={"sampling": {"temperature": 0.7}})
    found = parts_of(writer)["levels"]
    lost = tables(found)["Exercises lost and won against the reference level"]
    assert list(lost.texts()[0]) == ["m@q2_k", "m@f16", "e1, e2, e3", "none"]
    assert "m@q2_k: asked under other settings than m@f16: sampling temperature 0.7 instead of 0.0." in words(found)
    assert "Temperature is 0.7" in words(found)
    solved = tables(found)["What each solved, and what it took"]
    assert list(solved.texts()[0])[:2] == ["m@f16*", "4 of 4"]


def test_correctness_marks_small_groups_and_counts_outcomes(write):
    writer = write(exercises=7, kinds=["repair"] * 2 + ["write"] * 5)
    ids = writer.candidate("m@f16")
    for exercise, outcome in enumerate((PASSED, WRONG, PASSED, PASSED, PASSED, WRONG, FAULT)):
        writer.trial(ids, exercise, outcome)
    found = parts_of(writer)["correctness"]
    by_kind = tables(found)["Solved by kind"]
    assert [list(row) for row in by_kind.texts()] == [["repair", "1 of 2 ?"], ["write", "3 of 4 ?"]]
    ended = tables(found)["How trials ended, repair turns included"]
    assert [list(row) for row in ended.texts()] == [["passed", "4"], ["wrong-answer", "2"], ["server-fault", "1"]]
    (grid,) = [part for part in found if part.kind == "grid"]
    squares = {name.partition(" (")[0]: row[0] for name, row in grid.rows}
    assert [name for name, _ in grid.rows][-1] == "e6 (1)"  # the one that nobody solved, behind those that were solved
    assert (squares["e0"].tone, squares["e1"].tone, squares["e6"].tone) == ("passed", "none", "fault")
    assert squares["e1"].words == "0 of 1 passed, else wrong-answer" and squares["e1"].trial_id == 2
    (trials,) = [part for part in found if part.kind == "trials"]
    assert trials.left_out == 0 and [one.id for one in trials.exercises] == writer.names
    opened = trials.exercises[1].trials[0]
    assert opened.outcome == "wrong-answer" and "what check c found" in [one.title for one in opened.passages]


def test_what_levels_lost_is_gathered_with_both_answers_side_by_side(write):
    writer = write(exercises=4)
    for name, last in (("m@f16", PASSED), ("m@q4_k_m", WRONG)):
        ids = writer.candidate(name)
        writer.trial(ids, 0, PASSED)
        writer.trial(ids, 1, WRONG)  # solved by neither: not lost
        writer.trial(
            ids, 2, last, code=f"def dues(n):\n    return n * {3 if last is PASSED else 2}\n", detail="wanted 9"
        )
        writer.trial(ids, 3, last if last is PASSED else FAULT)  # a fault is no loss
    (lost,) = [part for part in parts_of(writer)["correctness"] if part.kind == "lost"]
    (one,) = lost.answers
    assert (one.exercise, one.reference, one.candidate, one.found) == ("e2", "m@f16", "m@q4_k_m", "wanted 9")
    assert [(line.left, line.right, line.same) for line in one.lines] == [
        ("def dues(n):", "def dues(n):", True),
        ("    return n * 3", "    return n * 2", False),
    ]
    assert lost.left_out == 0 and one.trials == (3, 7)


def opening(writer, section):
    return next(part.text for part in parts_of(writer)[section] if part.kind == "words")


@pytest.mark.parametrize(
    ("lost", "said"),
    [
        (
            9,
            "By kind, these lose against their reference beyond chance: m@q4_k_m in repair (9 of 12 exercises lost, 0 won, p 0.008",
        ),
        (4, "In no kind a loss is shown beyond chance; 7 exercises lost and none won would show one."),
    ],
)
def test_correctness_opens_with_losses_that_are_shown_and_no_others(write, lost, said):
    writer = write(exercises=24, kinds=["write"] * 12 + ["repair"] * 12)
    for name, failed in (("m@f16", ()), ("m@q4_k_m", range(12, 12 + lost))):
        ids = writer.candidate(name)
        for exercise in range(24):
            writer.trial(ids, exercise, WRONG if exercise in failed else PASSED)
    text = opening(writer, "correctness")
    assert text.startswith(f"Of 24 exercises that every candidate was asked, {24 - lost} are solved by all")
    assert said in text


def test_every_section_opens_with_words_from_its_figures(write):
    writer = write(exercises=20, criteria=PASS.format(0.5))
    for name, passed, peak in (("m@f16", 20, 1000), ("m@q8_0", 20, 995), ("m@q2_k", 2, 400)):
        ids = answered(writer, name, passed)
        writer.memory(ids, "answers", peak, 5)
    sign(writer.record, by="R. Tern", note="", verdicts={})
    assert opening(writer, "criteria") == (
        "1 criterion for 3 candidates: 2 met, 1 not met, 0 undecided. Not met most often: pass_rate at least 0.5 "
        "(1 candidate)."
    )
    levels_text = opening(writer, "levels")
    assert levels_text.startswith("1 level solved fewer exercises than the reference beyond chance, most of all m@q2_k")
    assert "none takes clearly less memory than its 1000 B" in levels_text  # the one that does is no equal
    assert opening(writer, "evidence") == (
        "The verdicts rest on 60 trials and 0 timed requests. Nothing in the record was changed since it was signed."
    )
    for section, parts in parts_of(writer).items():
        assert parts[0].kind == "words", section


def test_few_exercises_show_no_loss_and_the_opening_says_how_many_would(write):
    writer = write(exercises=4)
    answered(writer, "m@f16", 4, of=4)
    answered(writer, "m@q4_k_m", 0, of=4)
    text = opening(writer, "correctness")
    assert "0 by none" in text  # the reference solved them
    assert "No kind is asked enough to show a loss of its own: 6 exercises would have to be lost" in text


def test_speed_and_memory_open_with_who_is_fastest_and_who_takes_most(write):
    writer = write(exercises=1, criteria='[rig]\nmemory_budget = "1 KiB"\n')
    for name, rate, peak in (("m@f16", 100.0, 1500), ("m@q4_k_m", 200.0, 700)):
        ids = writer.candidate(name, speed={"depth": {"tokens": [100, 1000], "floor": 0.0}})
        writer.memory(ids, "answers", peak, 5)
        for step in range(12):
            writer.timed(ids, "latency", {"prompt_tokens": None, "reply_tokens": 11}, first=0.1, rate=rate + step / 10)
            for depth, slower in ((100, 1.0), (1000, 0.7 if name == "m@f16" else 1.0)):
                writer.timed(
                    ids, "depth", {"depth_tokens": depth}, first=0.1, rate=rate * slower + step / 10, prompt=depth
                )
    assert "m@q4_k_m decodes fastest, 201 tokens/s in the middle, 2.0 times as fast as the slowest, m@f16." in opening(
        writer, "speed"
    )
    assert "the rate falls most on m@f16: by 30%" in opening(writer, "speed")
    assert opening(writer, "memory") == (
        "m@f16 takes most, 1.46 KiB; m@q4_k_m least, 700 B. m@f16 exceeds the budget of 1.00 KiB."
    )


def css_colours():
    """The page's colours by name, of each scheme: light, dark and paper."""
    css = (Path(report_page.__file__).parent / "templates" / "page.css").read_text()
    light, dark, paper = (
        dict(re.findall(r"--(\S+): (#[0-9a-f]{6})", block)) for block in re.findall(r":root \{(.*?)\}", css, re.S)
    )
    return {"light": light, "dark": light | dark, "paper": light | paper}


def linear(colour):
    """Linear RGB of a colour, as IEC 61966-2-1 has it."""
    parts = np.array([int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)])
    return np.where(parts <= 0.04045, parts / 12.92, ((parts + 0.055) / 1.055) ** 2.4)


def contrast(one, other):
    """The contrast ratio of WCAG 2.2."""
    high, low = sorted((float(linear(colour) @ (0.2126, 0.7152, 0.0722)) for colour in (one, other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("scheme", ["light", "dark", "paper"])
def test_words_have_the_contrast_that_wcag_asks_for(scheme):
    colours = css_colours()[scheme]
    pairs = [(ink, back) for ink in ("ink", "quiet", "tide", "good", "bad", "open") for back in ("paper", "panel")]
    pairs += [("good", "good-back"), ("bad", "bad-back"), ("open", "open-back"), ("ink", "open-back")]
    assert {pair: ratio for pair in pairs if (ratio := contrast(*(colours[name] for name in pair))) < 4.5} == {}


# Machado, Oliveira and Fernandes (2009), complete deficiency, on linear RGB
DEFICIENCIES = {
    "protanopia": [(0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998)],
    "deuteranopia": [(0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881)],
    "tritanopia": [(1.255528, -0.076749, -0.178779), (-0.078411, 0.930809, 0.147602), (0.004733, 0.691367, 0.303900)],
}


def lab(rgb):
    """CIELAB of linear RGB, white D65."""
    xyz = np.array([(0.4124, 0.3576, 0.1805), (0.2126, 0.7152, 0.0722), (0.0193, 0.1192, 0.9505)]) @ rgb
    f = np.cbrt(np.clip(xyz / (0.9505, 1.0, 1.089), 1e-9, None))
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


@pytest.mark.parametrize("deficiency", DEFICIENCIES)
def test_squares_and_models_are_told_apart_with_every_common_deficiency(deficiency):
    css = (Path(report_page.__file__).parent / "templates" / "page.css").read_text()
    squares = re.findall(r"\.(?:passed|some|none|fault) \{ background: (#\w{6})", css)
    assert len(squares) == 4
    for colours in (squares, COLOURS[:4]):
        seen = [lab(np.array(DEFICIENCIES[deficiency]) @ linear(colour)) for colour in colours]
        apart = [float(np.linalg.norm(a - b)) for at, a in enumerate(seen) for b in seen[at + 1 :]]
        assert min(apart) > 10  # a just noticeable difference is about 2.3


def test_of_very_many_trials_those_that_failed_are_opened_first(write, monkeypatch):
    from kettlefield.views.sections import correctness_section as correctness

    monkeypatch.setattr(correctness, "MOST_TRIALS", 3)
    writer = write(exercises=8)
    answered(writer, "m@f16", 6, of=8)
    (trials,) = [part for part in parts_of(writer)["correctness"] if part.kind == "trials"]
    opened = {trial.id: trial.outcome for one in trials.exercises for trial in one.trials}
    assert opened == {1: "passed", 7: "wrong-answer", 8: "wrong-answer"} and trials.left_out == 5
    folder = writer.path.parent / "out"
    report_page.write_report(writer.record, decide(writer.record), folder, as_markdown=False, all_trials=True)
    pages = {page.name: re.findall(r'id="trial-(\d+)"', page.read_text()) for page in folder.glob("trials-*.html")}
    assert {name: sorted(ids) for name, ids in pages.items()} == {
        "trials-2.html": ["2", "3", "4"],
        "trials-3.html": ["5", "6"],
    }


def test_evidence_names_settings_once_and_what_was_not_measured(write):
    writer = write(exercises=4, samples=2)
    answered(writer, "m@f16", 4, of=4, settings={"server": {"context": 512}, "sampling": {"seed": 1, "top_p": 1.0}})
    ids = answered(
        writer, "m@q2_k", 0, of=3, settings={"server": {"context": 512}, "sampling": {"seed": 1, "top_p": 0.9}}
    )
    writer.ended(ids, "open_loop", "budget")
    writer.record.save_note("the wall clock was set")
    found = parts_of(writer)["evidence"]
    settings = dict(tables(found)["Settings"].texts())
    assert settings["server.context"] == "512" and settings["sampling.top_p"] == "m@f16: 1.0; m@q2_k: 0.9"
    said = words(found)
    assert "m@q2_k: 5 of 8 trials" in said and "m@f16: 4 of 8 trials" in said
    assert "peak memory, speed" in said and "open_loop ended early: budget" in said and "the wall clock was set" in said


def timed_record(write):
    writer = write(exercises=2)
    ids = writer.candidate("m@f16", speed={"depth": {"floor": 30.0}})
    for first in (0.2, 0.1, 0.4, 0.3):
        writer.timed(ids, "latency", {"prompt_tokens": 8}, first=first, rate=10, tokens=3)
    for depth, rate in ((100, 60), (100, 50), (1000, 20), (1000, 25)):
        writer.timed(ids, "depth", {"depth_tokens": depth}, rate=rate, prompt=depth + 5)
    return writer, ids


def test_samples_are_taken_from_the_record_as_they_were_measured(write):
    writer, _ = timed_record(write)
    timed = timed_frame(writer.record)
    firsts, gaps = grid_samples(timed)
    assert sorted(firsts["m@f16"]) == pytest.approx([0.1, 0.2, 0.3, 0.4])
    assert gaps["m@f16"] == pytest.approx([0.1] * 8)  # three events a reply: two gaps
    deep = depth_samples(timed)
    assert list(deep["depth_tokens"]) == [105.0, 105.0, 1005.0, 1005.0]
    assert list(deep["decode_tps"]) == pytest.approx([60, 50, 20, 25])


def test_memory_over_time_is_the_longest_warm_session_with_its_phases_one_after_the_other(write):
    import numpy as np

    from kettlefield.core.as_dict import as_dict
    from kettlefield.record.entries import MemoryEntry

    writer = write()
    ids = writer.candidate("m@f16")

    def phase(session, name, rows):
        table = np.array(rows, dtype=np.int64)
        entry = MemoryEntry(
            session_id=session, phase=name, samples=len(rows), host_peak_bytes=1, accelerator_peak_bytes=1, peak_bytes=2,
            end_bytes=2, mapped_peak_bytes=0, energy_j=None, energy_from=None, series=pack_series(table),
        )  # fmt: skip
        writer.record.save_memory(entry)
        return as_dict(entry)

    phase(ids[1], "load", [(100_000, 10, 0, 0), (200_000, 20, 5, 0)])
    phase(ids[1], "answers", [(50_000, 30, 5, 0), (150_000, 40, 5, 0)])
    _, cold = writer.candidate("m@f16", load_kind="cold")
    phase(cold, "load", [(1, 900, 0, 0)] * 9)
    found = memory_series(writer.record)
    assert list(found["at_s"]) == pytest.approx([0.1, 0.2, 0.25, 0.35])
    assert list(found["total_bytes"]) == [10, 25, 35, 45] and list(found["phase"]) == ["load"] * 2 + ["answers"] * 2
    chart = memory.over_time(found, budget_bytes=None)
    assert "m@f16 peaks at 45 B" in chart.alt and "4 samples" in chart.caption


@pytest.mark.parametrize(
    ("phase", "group"),
    [("load", "load"), ("answers", "answers"), ("idle", "idle"), ("concurrency 4", "several at once"), ("open_loop", "several at once"),
     ("latency", "timing"), ("past-window", "timing")],
)  # fmt: skip
def test_phases_are_shaded_by_what_is_going_on(phase, group):
    assert memory.group_of(phase) == group


def lines_of(chart):
    return [
        (line.get_label(), list(line.get_xdata()), list(line.get_ydata())) for line in chart.figure.axes[0].get_lines()
    ]


def test_a_distribution_rises_from_the_least_to_the_most():
    chart = speed.distribution({"m@f16": [0.4, 0.1, 0.2, 0.3]}, name="n", what="time to first token", floor=Floor(None))
    label, x, y = lines_of(chart)[0]
    assert (
        label == "m@f16 (n = 4)"
        and x == pytest.approx([100, 200, 300, 400])
        and y == pytest.approx([0, 1 / 3, 2 / 3, 1])
    )
    assert chart.alt == "m@f16: median 250 ms, 95 % below 385 ms, n = 4."


def test_the_spread_has_a_row_a_candidate_with_its_median_and_p95():
    samples = {"m@f16": np.linspace(0.1, 0.2, 41), "m@q4_k_m": [0.05, 0.06]}
    chart = speed.spread(samples, name="n", what="time to first token", floor=Floor(None))
    (axes,) = chart.figure.axes
    assert [text.get_text() for text in axes.get_yticklabels()] == ["m@f16 (n = 41)", "m@q4_k_m (n = 2)"]
    dots = [tuple(line.get_xdata()) for line in axes.get_lines() if len(line.get_xdata()) == 1]
    assert dots[:2] == [pytest.approx((150.0,)), pytest.approx((195.0,))]
    bands = [line for line in axes.get_lines() if line.get_linewidth() == 5]
    assert len(bands) == 1  # two samples bound no median
    assert chart.alt.startswith("m@f16: median 150 ms, 95 % below 195 ms, n = 41")
    assert speed.spread({"a": []}, name="n", what="w", floor=Floor(None)) is None


def test_depth_is_drawn_through_the_medians_with_the_floor(write):
    writer, _ = timed_record(write)
    chart = speed.decode_against_depth(depth_samples(timed_frame(writer.record)), floor_tps=30.0)
    middles = next(line for line in lines_of(chart) if line[0] == "m@f16")
    assert middles[1:] == ([105.0, 1005.0], [pytest.approx(55), pytest.approx(22.5)])
    assert "55 tokens/s at 105 tokens, 22 at 1,005" in chart.alt
    assert any(list(line[2]) == [30.0, 30.0] for line in lines_of(chart))


def test_a_model_has_a_colour_and_its_levels_have_shades_and_names_where_lines_end():
    names = ["a@f16", "a@q4", "b@f16"]
    looks = looks_of(names)
    assert looks["a@f16"]["color"] == COLOURS[0].lower() and looks["b@f16"]["color"] == COLOURS[1].lower()
    assert contrast(looks["a@q4"]["color"], "#ffffff") < contrast(COLOURS[0], "#ffffff")
    assert looks["a@f16"]["marker"] != looks["a@q4"]["marker"]
    frame = pd.DataFrame(
        [(name, depth, 100.0 - depth / 100) for name in names for depth in (100, 1000)],
        columns=["candidate", "depth_tokens", "decode_tps"],
    )
    chart = speed.decode_against_depth(frame, floor_tps=0.0)
    assert [axes.get_title(loc="left") for axes in chart.figure.axes] == ["a", "b"]  # a panel a model
    ends = {text.get_text(): text.xy[1] for text in chart.figure.axes[0].texts}
    assert set(ends) == {"f16", "q4"} and abs(ends["f16"] - ends["q4"]) > 3  # equal rates, names apart


def test_the_forest_draws_bounds_margin_and_no_difference():
    frame = pd.DataFrame(
        [
            {
                "candidate": "m@q4",
                "against": "m@f16",
                "difference": -0.1,
                "low": -0.3,
                "high": 0.1,
                "lower_bound": -0.25,
                "upper_bound": 0.05,
                "pairs": 40,
            }
        ]
    )
    chart = levels.differences(frame, margin=0.15, confidence=0.95)
    drawn = [x for _, x, _ in lines_of(chart)]
    assert [-0.3, 0.1] in drawn and [-0.25, 0.05] in drawn and [-0.15, -0.15] in drawn and [0, 0] in drawn
    assert chart.alt == "m@q4 differs from m@f16 by -0.10 (-0.30 to +0.10)."
    assert "40 pairs each" in chart.caption and "one-sided bounds at 95%" in chart.caption


def test_solved_against_memory_marks_the_frontier_and_the_budget():
    rows = [
        ("m@f16", 0.9, 4 * 2**30, True),
        ("m@q4", 0.8, 2**30, True),
        ("m@q5", 0.7, 2 * 2**30, False),
        ("m@x", None, None, False),
    ]
    frame = pd.DataFrame(
        [
            {
                "candidate": n,
                "model": "m",
                "level": n[2:],
                "pass_rate": p,
                "low": p,
                "high": p,
                "peak_bytes": b,
                "frontier": f,
            }
            for n, p, b, f in rows
        ]
    )
    chart = levels.solved_against_memory(frame, budget_bytes=3 * 2**30, trials=20)
    filled = next(line for line in chart.figure.axes[0].get_lines() if line.get_label() == "m")
    assert list(filled.get_xdata()) == [1.0, 4.0]
    assert any(list(line[1]) == [3.0, 3.0] for line in lines_of(chart))
    assert "m@q5 solves 0.70 (0.70 to 0.70) in 2.00 GiB" in chart.alt and "m@x" not in chart.alt


def test_a_picture_stands_on_white_and_levels_of_like_size_do_not_crowd(tmp_path):
    row = {
        "candidate": "m@f16",
        "model": "m",
        "level": "f16",
        "pass_rate": 0.5,
        "low": 0.4,
        "high": 0.6,
        "frontier": True,
    }
    near = pd.DataFrame([row | {"peak_bytes": 100 * 2**20}, row | {"level": "q8_0", "peak_bytes": 95 * 2**20}])
    chart = levels.solved_against_memory(near, budget_bytes=2**40, trials=20)
    assert chart.figure.axes[0].get_xlim()[0] > 80 and "peak memory (MiB)" in chart.figure.axes[0].get_xlabel()
    save_chart(chart.figure, tmp_path / "levels.png")
    assert Image.open(tmp_path / "levels.png").getpixel((2, 2)) == (255, 255, 255, 255)


def test_bars_of_memory_and_loads_stand_by_their_candidates():
    frame = pd.DataFrame({"candidate": ["a", "b"], "predicted_bytes": [2**30, None], "peak_bytes": [2**30, 2**30]})
    chart = memory.predicted_beside_measured(frame, budget_bytes=2**30)
    assert chart.alt == "a: predicted 1.00 GiB, measured 1.00 GiB."  # b has nothing to stand beside
    far = memory.predicted_beside_measured(frame, budget_bytes=2**35)  # would dwarf the bars
    assert "The memory budget, 32.0 GiB, lies outside." in far.caption and not lines_of(far)
    assert far.figure.axes[0].get_xlabel() == "memory (GiB)" and "outside" not in chart.caption
    loads = pd.DataFrame({"candidate": ["a", "a", "b"], "kind": ["cold", "warm", "warm"], "load_s": [3.0, 1.0, 2.0]})
    shares = pd.DataFrame({"candidate": ["b"], "share": [0.5]})
    chart = speed.loads_and_ceilings(loads, shares)
    left, right = chart.figure.axes
    assert sorted(bar.get_width() for bar in left.patches) == [1.0, 2.0, 3.0] and [
        bar.get_width() for bar in right.patches
    ] == [0.5]
    assert "a ready after 3.00 s (cold)" in chart.alt and "b decodes at 50% of its ceiling" in chart.alt


def test_load_and_arrivals_have_a_row_a_model_and_mark_saturation_and_capacity():
    clients = pd.DataFrame(
        {
            "candidate": ["a@f16", "a@f16", "a@q2_k"],
            "concurrency": [1, 2, 1],
            "rate_tps": [10.0, 15.0, 9.0],
            "saturation": [False, True, False],
        }
    )
    tries = pd.DataFrame(
        {
            "candidate": ["a@q2_k", "a@q2_k", "b@f16"],
            "rate_rps": [4.0, 2.0, 8.0],
            "ttft_p95_s": [0.9, 0.1, 0.2],
            "held": [False, True, True],
        }
    )
    chart = speed.under_load(clients, tries, capacities={"a@q2_k": 2.0})
    left, right, _, other = chart.figure.axes
    assert [axes.get_title(loc="left").split(":")[0] for axes in chart.figure.axes] == ["a", "a", "b", "b"]
    assert {text.get_text() for text in left.texts} == {"f16", "q2_k"} and not chart.figure.legends
    assert right.get_xlim() == other.get_xlim()
    colour = {line.get_label(): line.get_color() for line in left.get_lines()}
    late = next(line for line in right.get_lines() if line.get_label() == "a@q2_k")
    assert late.get_color() == colour["a@q2_k"] and list(late.get_xdata()) == [2.0, 4.0]
    assert any(list(line.get_xdata()) == [2.0, 2.0] for line in right.get_lines())
    assert (
        chart.alt == "a@f16: at most 15 tokens/s in all; a@q2_k: at most 9 tokens/s in all; "
        "a@q2_k holds its limits up to 2 requests/s."
    )


def test_the_grid_is_drawn_only_where_it_can_be_read(monkeypatch):
    trials = pd.DataFrame({"exercise": ["e1", "e2"], "candidate": "m@f16", "first_outcome": ["passed", "looping"]})
    chart = outcomes.outcome_grid(trials, ["m@f16"])
    assert chart.alt == "m@f16 solves 1 of 2 exercises in every sample." and "O looping" in chart.caption
    assert {text.get_text() for text in chart.figure.axes[0].texts} == {"P", "O"}
    monkeypatch.setattr(outcomes, "MOST_DRAWN", 1)
    assert outcomes.outcome_grid(trials, ["m@f16"]) is None


def test_svgs_of_one_page_share_no_ids_and_follow_its_colours():
    texts_of = []
    for name in ("one", "two"):
        figure, axes = new_chart("Title")
        axes.plot([1, 2], [1, 2], label="<script>")
        axes.legend()
        chart = Chart(name=name, title="t", alt="a", caption="c", figure=figure)
        settle(chart)
        texts_of.append(svg_text(chart))
    import re

    ids = [set(re.findall(r'\bid="([^"]+)"', text)) for text in texts_of]
    assert ids[0] and ids[0].isdisjoint(ids[1])
    used = set(re.findall(r'(?:xlink:href="|url\()#([^")]+)', texts_of[0]))
    assert used and used <= ids[0]  # what is pointed at is there
    assert "<script" not in texts_of[0] and "&lt;script&gt;" in texts_of[0]
    inside = svg_in_page(texts_of[0])
    assert (
        "currentColor" in inside
        and "var(--faint)" in inside
        and "#1d2733" not in inside
        and 'aria-hidden="true"' in inside
    )
    assert svg_file(texts_of[0]).startswith("<?xml") and "currentColor" not in svg_file(texts_of[0])


def test_a_campaign_without_timing_or_memory_has_its_sections_all_the_same(write):
    writer = plain_record(write)
    sections = build_sections(material_of(writer))
    assert [section.anchor for section in sections] == [
        "verdict",
        "criteria",
        "levels",
        "correctness",
        "speed",
        "memory",
        "evidence",
    ]
    assert [chart.name for chart in charts_of(sections)] == ["outcome-grid", "loads-and-ceilings"]


def test_no_duration_is_shown_below_the_stopwatch_s_own_error(write):
    writer = write(rig={"host": {}, "calibration": {"floor_s": 0.25}})
    ids = writer.candidate("m@f16")
    for _ in range(6):
        writer.timed(ids, "latency", {"prompt_tokens": 8}, first=0.1, rate=10, tokens=3)
    shown = tables(parts_of(writer)["speed"])["Speed, one request at a time"]
    assert list(shown.texts()[0])[:2] == ["m@f16*", "< 250 ms"]


def test_a_finding_says_what_the_figures_show_and_no_more():
    rows = [("a@f16", 0.9, 0.8, 0.95, 200), ("a@q8", 0.88, 0.78, 0.94, 100), ("a@q2", 0.3, 0.2, 0.4, 50)]
    levels = pd.DataFrame(rows, columns=["candidate", "pass_rate", "low", "high", "peak_bytes"])
    assert findings.memory_saved(levels) == (
        "a@f16 has the highest pass rate, 0.90, in 200 B; a@q8 takes 50% less memory, and its interval (0.78 to 0.94) "
        "reaches that rate."
    )
    assert findings.memory_saved(levels[:1]) == "a@f16 has the highest pass rate, 0.90, 200 B."
    assert "of those that may equal it the least memory, 100 B" in findings.memory_saved(levels[1:])
    pairs = pd.DataFrame(
        [("a@q8", -0.02, -0.1, 0.06), ("a@q2", -0.6, -0.7, -0.5)], columns=["candidate", "difference", "low", "high"]
    )
    said = findings.losses(pairs)
    assert said.startswith("1 level solved fewer exercises than the reference beyond chance, most of all a@q2: -0.60 ")
    assert said.endswith("A drop of the others of up to 0.10 is not excluded.")
    assert findings.losses(pairs[:1]) == "A drop of any level of up to 0.10 is not excluded."
    quick = {"a@f16": np.array([0.004, 0.005]), "a@q8": np.array([0.002])}
    assert findings.slowest(quick, Floor(0.01)) == "All medians are about equal, < 10.0 ms at the most."
    assert findings.slowest(quick, Floor(None)) == "a@f16 has the largest median, 4.50 ms; a@q8 has the smallest."
    depths = pd.DataFrame(
        [("a@f16", 10, 100.0), ("a@f16", 90, 50.0), ("a@q8", 11, 200.0), ("a@q8", 95, 180.0), ("a@q2", 10, 9.0)],
        columns=["candidate", "depth_tokens", "decode_tps"],
    )
    assert findings.fall_with_depth(depths) == (
        "From the least depth to the largest the decode rate changes by -50% (a@f16) to -10% (a@q8). "
        "There a@q8 decodes 3.6 times as fast as a@f16."
    )
    assert findings.fall_with_depth(depths[:1]) == ""
    cells = {("e1", "a"): (2, 2, "passed"), ("e1", "b"): (1, 2, "crashed"), ("e2", "a"): (0, 2, "crashed")}
    assert findings.shared_failures(cells, 2) == (
        "0 of 2 exercises are solved by every candidate in every sample, 1 by no candidate. "
        "The most frequent failure is crashed, 2 of 2 cells that fail."
    )
    peaks = {"a@f16": 300.0, "a@q8": 100.0}
    assert findings.highest_peak(peaks, 200).endswith("Beyond the budget of 200 B: a@f16.")
    assert findings.highest_peak(peaks, 400).endswith("All stay within the budget of 400 B.")
    predicted = pd.DataFrame({"candidate": ["a", "b"], "predicted_bytes": [90.0, 130.0], "peak_bytes": [100.0, 100.0]})
    assert findings.prediction_error(predicted) == "The prediction is off most for b: 30% above the measured peak."


def test_a_long_prompt_keeps_both_ends_since_its_task_may_stand_at_either():
    text = "Task first. " + "x" * 9_000 + " Task last."
    whole, head, both = cut("p", text, 10_000, ends=True), cut("p", text, 400), cut("p", text, 400, ends=True)
    assert (whole.text, whole.cut) == (text, 0)
    assert head.text == text[:400] and head.cut == both.cut == len(text) - 400
    assert both.text.startswith("Task first. ") and both.text.endswith(" Task last.") and both.length == len(text)
    assert len(both.text.replace("\n\n[...]\n\n", "")) == 400
