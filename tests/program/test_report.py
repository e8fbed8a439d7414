"""The report: in a real browser, with hostile text in every place that others write, and as Markdown."""

import json
import re
import shutil
from xml.etree import ElementTree as ET

import pandas as pd
import pytest
from playwright.sync_api import sync_playwright
from records import FAULT, PASSED, WRONG, Writer

from kettlefield.results.capacity import Floor
from kettlefield.views.figures import level_charts as levels
from kettlefield.views.figures import level_charts as outcomes
from kettlefield.views.figures import memory_charts as memory
from kettlefield.views.figures import speed_charts as speed
from kettlefield.views.parts import Section, cut
from kettlefield.views.report_page import render_markdown
from kettlefield.views.table import Table, Words
from kettlefield.views.table import count as count_column
from kettlefield.views.table import words as words_column

HOSTILE = (
    "</pre></details><script>document.title='owned'</script><img src=x onerror=\"document.title='owned'\">"
    "<style>body{display:none}</style>\x1b[31mred\u202eright-to-left\u2066 & {{ 7 * 7 }} javascript:alert(1)"
)
PARTS = ("verdict", "criteria", "levels", "correctness", "speed", "memory", "evidence")
CRITERIA = """
[[criterion]]
measure = "pass_rate"
at_least = 0.3
[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.2
[rig]
memory_budget = "1 KiB"
"""


def written(path):
    """A record of three levels whose every foreign text is hostile."""
    settings = {"server": {"context": 512, "kv_bits": 16}, "sampling": {"temperature": 0.0, "stop": [HOSTILE]}}
    writer = Writer(
        path,
        exercises=12,
        criteria=CRITERIA,
        facts={"licence": "MIT", "predicted_bytes": 1000, "kv_bytes_per_token": 4},
    )
    for name, passed in (("<b>m@f16", 12), ("<b>m@q8_0", 11), ("<b>m@q2_k", 2)):
        ids = writer.candidate(name, description=HOSTILE, settings=settings, speed={"depth": {"floor": 20.0}})
        for exercise in range(12):
            outcome = PASSED if exercise < passed else FAULT if exercise == 11 else WRONG
            writer.trial(ids, exercise, outcome, reply=HOSTILE * 40, detail=HOSTILE, code=HOSTILE)
        writer.memory(ids, "answers", 700, 300)
        for step in range(8):
            writer.timed(ids, "latency", {"prompt_tokens": 8, "reply_tokens": 11}, first=0.05 + step / 100, prompt=8)
            writer.timed(
                ids,
                "depth",
                {"depth_tokens": 100 * (1 + step // 4)},
                rate=40 - 8 * (step // 4),
                prompt=100 * (1 + step // 4),
            )
        for count in (1, 2):
            writer.timed(ids, "closed_loop", {"concurrency": count}, rate=50)
        writer.ended(
            ids,
            "closed_loop",
            counts=[{"concurrency": 1, "rate_tps": 50}, {"concurrency": 2, "rate_tps": 90}],
            saturation_concurrency=2,
        )
        tries = [{"rate_rps": rate, "ttft_p95_s": late, "held": rate < 4} for rate, late in ((2.0, 0.1), (4.0, 0.9))]
        writer.ended(ids, "open_loop", capacity_rps=2.0, fails_at_rps=4.0, tries=tries)
        writer.ended(ids, "past-window", behaviour=HOSTILE)
    writer.record.save_note(HOSTILE)
    return writer


@pytest.fixture(scope="module")
def report(run_cli, tmp_path_factory):
    folder = tmp_path_factory.mktemp("report")
    writer = written(folder / "record.db")
    done = run_cli("report", writer.path, "-o", folder / "out", "--png")
    assert done.code == 0, done.err
    return folder, done


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        yield found
        found.close()


@pytest.fixture
def page(report, browser):
    """The report opened; what it complains of or asks for ends in ``page.faults``."""
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    url = (report[0] / "out" / "report.html").as_uri()
    opened.faults = []
    opened.on("console", lambda message: opened.faults.append(message.text))
    opened.on("pageerror", lambda error: opened.faults.append(str(error)))
    opened.on("request", lambda request: request.url.startswith(url) or opened.faults.append(request.url))
    opened.goto(url)
    yield opened
    assert opened.faults == []
    opened.close()


def test_all_seven_parts_are_there_and_every_link_leads_somewhere(page):
    assert [one.get_attribute("id") for one in page.query_selector_all("main > section")] == list(PARTS)
    targets = page.eval_on_selector_all("a[href]", "links => links.map(one => one.getAttribute('href'))")
    assert all(target.startswith("#") for target in targets) and len(set(targets)) > 20
    assert page.evaluate("targets => targets.every(one => document.getElementById(one.slice(1)) !== null)", targets)


def test_hostile_text_is_shown_and_does_nothing(page):
    assert page.title().startswith("By hand: ")
    assert page.evaluate("document.querySelectorAll('script, img, iframe, link, object, base, form').length") == 0
    assert page.evaluate("document.querySelectorAll('style').length") == 1
    assert page.evaluate("getComputedStyle(document.body).display") == "block"
    text = page.evaluate("document.body.textContent")
    assert "<script>document.title='owned'</script>" in text and "<b>m@q2_k" in text and "{{ 7 * 7 }}" in text
    assert not set(text) & {"\x1b", "\u202e", "\u2066"}
    assert "characters are not shown" in text  # long replies are cut, with their length


def test_a_square_of_the_grid_opens_its_trial(page):
    squares = page.query_selector_all("td.square")
    assert len(squares) == 36 and {one.inner_text() for one in squares} >= {"P", "W", "s"}
    page.query_selector("td.square.none a").click()
    assert page.evaluate("document.querySelector(':target').checkVisibility()")
    assert "wrong-answer" in page.evaluate("document.querySelector(':target').closest('details').textContent")


def test_it_fits_a_phone_a_page_and_the_dark(page):
    light = page.evaluate("getComputedStyle(document.body).backgroundColor")
    page.emulate_media(color_scheme="dark")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") != light
    # a phone, 200 % zoom on a narrow window, a wide screen, and paper
    for width, media in ((390, "screen"), (640, "screen"), (1920, "screen"), (794, "print")):
        page.set_viewport_size({"width": width, "height": 1000})
        page.emulate_media(media=media)
        assert page.evaluate("document.documentElement.scrollWidth") <= width
    assert page.evaluate("getComputedStyle(document.querySelector('.exercise')).display") == "none"  # not on paper


def test_contents_stay_in_view_and_what_was_lost_is_on_paper(page):
    page.set_viewport_size({"width": 1500, "height": 800})
    page.evaluate("document.querySelector('#evidence').scrollIntoView()")
    top, bottom = page.evaluate("(r => [r.top, r.bottom])(document.querySelector('nav ol').getBoundingClientRect())")
    assert top >= 0 and bottom <= 800
    lost = page.query_selector_all("details.lost")
    assert len(lost) == 9 and lost[0].query_selector("tr.differs") is None  # the same text, and a fault is no loss
    page.emulate_media(media="print")
    assert page.evaluate("document.querySelector('details.lost table').checkVisibility()")


def test_it_is_printed_and_two_records_are_compared_on_a_page_of_their_own(report, run_main):
    folder, _ = report
    done = run_main("report", folder / "record.db", "-o", folder / "printed", "--pdf")
    assert done.code == 0 and (folder / "printed" / "report.pdf").read_bytes().startswith(b"%PDF-")
    record = folder / "record.db"
    done = run_main("report", record, record, "-o", folder / "changes", "--pdf")
    text = (folder / "changes" / "report.html").read_text()
    assert (
        done.code == 0
        and "the same rig, servers, weights and suite; 0 of" in text
        and "How figures moved" in text
        and "<b>m" not in text
    )
    assert run_main("report", record, record, "-o", folder / "changes", "--markdown").code == 0
    for words in (("--pdf", "--markdown"), (record, "--png")):
        assert run_main("report", record, *words, "-o", folder / "changes").code == 2


def test_it_can_be_read_without_seeing_it(page):
    assert page.get_attribute("html", "lang") == "en"
    figures = page.query_selector_all("figure")
    assert len(figures) >= 8
    assert all(len(one.get_attribute("aria-label")) > 60 and one.query_selector("figcaption") for one in figures)
    assert page.evaluate(
        "[...document.querySelectorAll('table')].every(one => one.caption && one.querySelector('th[scope]'))"
    )
    assert page.evaluate("[...document.querySelectorAll('td.square a')].every(one => one.getAttribute('aria-label'))")
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.getAttribute('href')") == "#verdict"


def test_figures_stand_beside_it_as_svg_and_png(report):
    folder, done = report
    names = {path.stem for path in (folder / "out" / "figures").glob("*.svg")}
    assert names == {path.stem for path in (folder / "out" / "figures").glob("*.png")}
    assert f"{len(names)} figures" in done.out
    assert names >= {
        "solved-against-memory",
        "difference-to-reference",
        "outcome-grid",
        "decode-against-depth",
        "under-load",
    }
    for path in (folder / "out" / "figures").glob("*.svg"):
        tags = {element.tag.rpartition("}")[2] for element in ET.parse(path).iter()}
        assert "script" not in tags and "text" in tags  # words stay words


def test_every_table_stands_beside_it_as_csv_that_no_spreadsheet_runs(report, page):
    folder, _ = report
    tables = {path.stem: path.read_text() for path in (folder / "out" / "tables").glob("*.csv")}
    shown = page.eval_on_selector_all("main table[id]", "all => all.map(one => one.id.replace('table-', ''))")
    assert set(shown) <= set(tables) and len(tables) > 8
    head, first, *_ = tables["what-each-solved-and-what-it-took"].splitlines()
    assert head.startswith("candidate,solved,pass rate") and first.startswith("<b>m@f16*,12 of 12,")


def test_markdown_is_nothing_but_text_and_pictures(report, run_cli):
    folder, _ = report
    done = run_cli("report", folder / "record.db", "-o", folder / "md", "--markdown")
    text = (folder / "md" / "report.md").read_text()
    assert done.out.startswith(str(folder / "md" / "report.md"))
    assert not re.search(r"(?<!\\)<", text) and "figures/outcome-grid" not in text
    pictures = re.findall(r"\]\((figures/[^)]+)\)", text)
    assert len(pictures) >= 8 and all((folder / "md" / name).exists() for name in pictures)
    assert [line.removeprefix("## ") for line in text.splitlines() if line.startswith("## ")][:2] == [
        "Verdict",
        "Criteria",
    ]
    table = Table(title="a|b", columns=(words_column("x"), count_column("n")), rows=(("1 | 2", "`3`\n4"),))
    made = render_markdown(
        "t*", "h", (Section(anchor="a", title="s", parts=(Words(items=("<i>",)), table)),), folder="f"
    )
    assert "| 1 \\| 2 | \\`3\\` 4 |" in made and "# t\\*" in made and "- \\<i\\>" in made


def test_an_empty_campaign_and_a_bad_folder_end_well(run_cli, tmp_path):
    writer = Writer(tmp_path / "empty.db")
    writer.candidate("m@f16")
    assert run_cli("report", writer.path, "-o", tmp_path / "out").code == 0
    text = (tmp_path / "out" / "report.html").read_text()
    for words in (
        "the evidence leaves m@f16 undecided",
        "sets no criteria",
        "No exercise was asked yet",
        "No request was timed",
        "Memory was not measured",
    ):
        assert words in text
    done = run_cli("report", writer.path, "-o", writer.path)
    assert (done.code, "cannot be written" in done.err) == (2, True)


def test_figures_without_anything_to_draw_are_none():
    empty = pd.DataFrame(
        columns=[
            "candidate",
            "pass_rate",
            "peak_bytes",
            "predicted_bytes",
            "load_s",
            "kind",
            "share",
            "first_outcome",
            "exercise",
        ]
    )
    assert levels.solved_against_memory(empty, budget_bytes=None, trials=0) is None
    assert levels.differences(empty, margin=None, confidence=0.95) is None and levels.agreement(empty) is None
    assert (
        memory.over_time(empty, budget_bytes=None) is None
        and memory.predicted_beside_measured(empty, budget_bytes=None) is None
    )
    assert (
        speed.distribution({"a": []}, name="n", what="w", floor=Floor(None)) is None
        and speed.decode_against_depth(empty, floor_tps=0) is None
    )
    assert speed.under_load(empty, empty, capacities={}) is None and speed.loads_and_ceilings(empty, empty) is None
    assert outcomes.outcome_grid(empty, []) is None


def test_memory_is_thinned_without_losing_a_peak_and_long_text_is_cut_with_its_length():
    values = pd.Series([1.0] * 5000)
    values[3333] = 9.0
    at, thin = memory.thinned(pd.Series(range(5000), dtype=float), values)
    assert len(thin) <= memory.POINTS and thin.max() == 9.0 and at[thin.idxmax()] == 3333
    passage = cut("reply", "abc" * 10, 12)
    assert (passage.text, passage.length, passage.cut) == ("abcabcabcabc", 30, 18)
    json.dumps(passage.text)


def test_every_outcome_has_a_letter_of_its_own():
    letters = list(outcomes.LETTERS.values())
    assert len(set(letters)) == len(letters) == len(outcomes.Outcome)
    trials = pd.DataFrame(
        {
            "exercise": "e",
            "candidate": ["a", "a", "b", "c"],
            "first_outcome": ["passed", "crashed", "rig-fault", "looping"],
        }
    )
    cells = outcomes.outcome_cells(trials)
    assert [outcomes.letter_of(cells["e", name]) for name in "abc"] == ["C 1/2", "r", "O"]
    assert [outcomes.colour_of(cells["e", name]) for name in "abc"] == [outcomes.SOME, outcomes.FAULT, outcomes.NONE]
