"""Marks, judges and what a page showed: computed on figures known beforehand."""

from functools import partial

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.extraction import extract as extraction
from kettlefield.core.extraction.wanted import Wanted
from kettlefield.core.page_expectations import Wish, blended, contrast_ratio, read_colour, rule_faults, shortfall
from kettlefield.core.statistics.intervals import mean_of_groups
from kettlefield.core.statistics.kappa import agreement_on_scale, parting, weighted_kappa
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.marking.judge_bias import Compared, follows_checks, length_bias, position_bias, same_in_both_orders
from kettlefield.marking.judge_prompt import judge_prompt, read_choice, read_mark
from kettlefield.marking.scale import order_of

extract_answer = partial(extraction.extract_answer, languages=LANGUAGES)

# Cohen (1968), page 216: two judges, three categories, shares of 200 cases, and weights of disagreement
COHEN = np.array([[0.44, 0.07, 0.09], [0.05, 0.20, 0.05], [0.01, 0.03, 0.06]]) * 200
COHEN_WEIGHTS = 1 - np.array([[0, 1, 3], [1, 0, 6], [3, 6, 0]]) / 6
# Agresti, Categorical Data Analysis: two reviewers on 160 works, three categories
REVIEWERS = np.array([[24, 8, 13], [8, 13, 11], [10, 9, 64]])


@pytest.mark.parametrize(
    ("table", "weights", "kappa", "error"),
    [
        (COHEN, np.eye(3), 0.492, None),
        (COHEN, COHEN_WEIGHTS, 0.348, None),
        (REVIEWERS, np.eye(3), 0.389, 0.0598),
    ],
)
def test_kappa_is_that_of_published_examples(table, weights, kappa, error):
    found = weighted_kappa(table, weights)
    assert found.value == pytest.approx(kappa, abs=5e-4) and found.n == round(table.sum())
    if error is not None:
        assert (found.high - found.value) == pytest.approx(min(1 - kappa, 1.96 * error), abs=2e-3)


def test_kappa_of_marks_and_where_there_is_none():
    # quadratic weights: one mark apart is nearly agreement, four apart is none
    near, far = [(m, min(4, m + 1)) for m in range(5)] * 4, [(m, 4 - m) for m in range(5)] * 4
    assert agreement_on_scale(near, 5).value > 0.7 and agreement_on_scale(far, 5).value == pytest.approx(-1)
    # wholly agreed: as far down as with one more, as far apart as may be; so few never look certain, many nearly do
    whole, one_off = (weighted_kappa(np.diag([5, 5, 5]) + off, np.eye(3)) for off in (0, np.eye(3, k=2)))
    assert (whole.value, whole.high, whole.n) == (1, 1, 15) and whole.low == one_off.low < 0.8
    assert weighted_kappa(np.diag([50, 50, 50]), np.eye(3)).low > 0.95
    assert agreement_on_scale([], 5) is None and agreement_on_scale([(3, 3)] * 9, 5) is None


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 4)), min_size=2, max_size=40))
def test_kappa_does_not_know_who_is_first(pairs):
    one, other = agreement_on_scale(pairs, 5), agreement_on_scale([(b, a) for a, b in pairs], 5)
    assert one == other or one.value == pytest.approx(other.value)


def test_marks_part_right_from_wrong():
    # by hand: of 6 pairs 4 are right, 1 wrong, 1 a tie
    found = parting([4, 3, 1], [2, 1])
    assert (found.value, found.n) == (pytest.approx(4.5 / 6), 5)
    # Hanley and McNeil (1982): area 0.893 from 58 normal and 51 abnormal images has a standard error of 0.032
    q = np.random.default_rng(5)
    right, wrong = list(q.normal(1.757, 1, 51)), list(q.normal(0, 1, 58))
    wide = parting(right, wrong)
    assert (wide.high - wide.low) / 2 / 1.96 == pytest.approx(0.032, abs=0.006) and wide.low < wide.value < wide.high
    turned = parting(wrong, right)
    assert (turned.low, turned.high) == (pytest.approx(1 - wide.high), pytest.approx(1 - wide.low))
    # parted wholly, few replies still say little
    few, many = parting([4] * 4, [1] * 4), parting([4] * 60, [1] * 60)
    assert (few.value, few.high) == (1, 1) and 0.4 < few.low < 0.8 and 0.95 < many.low < 1
    assert parting([], [1]) is None


def test_a_mean_takes_a_group_as_one_draw():
    # Cochran's ratio estimator by hand: sums 6, 8, 9 of sizes 2, 2, 3
    found = mean_of_groups([[3, 3], [4, 4], [3, 3, 3]], within=(0, 4))
    mean = 23 / 7
    spread = (3 / 2) * sum((s - mean * n) ** 2 for s, n in ((6, 2), (8, 2), (9, 3))) / 49
    assert found.value == pytest.approx(mean) and found.low == pytest.approx(mean - 4.3027 * spread**0.5, abs=1e-3)
    assert (found.high, found.n) == (4, 7)
    assert mean_of_groups([[1, 2]]).low is None
    # 17 exercises, all right: Wilson's bound for 17 of 17, not a width of nothing
    same = mean_of_groups([[1.0]] * 17, within=(0, 1))
    assert (same.value, same.high) == (1, 1) and same.low == pytest.approx(0.816, abs=1e-3)
    assert mean_of_groups([[2.0, 2.0]] * 9, within=(0, 4)).low == pytest.approx(4 * 0.2266, abs=1e-3)


def test_the_order_is_a_markers_own_keeps_exercises_together_and_survives_more_replies():
    items = [(f"e{n % 4}", f"i{n}") for n in range(40)]
    order = order_of(items, "Ines Quine")
    first = [one for one in order if one.showing == 1]
    assert {(one.exercise, one.item) for one in first} == set(items) and len(order) == 45
    for part in (first, order[len(first) :]):
        names = [one.exercise for one in part]
        assert len([n for n, before in zip(names, [None, *names], strict=False) if n != before]) == len(set(names))
    assert order_of(reversed(items), "Ines Quine") == order != order_of(items, "Tam Orr")
    more = [one for one in order_of([*items, ("e1", "new")], "Ines Quine") if one.item != "new" and one.showing == 1]
    assert more == first


def test_an_judge_is_asked_so_that_no_reply_can_end_its_quotation():
    text = judge_prompt("Sum up.", "4: right", ["MARK: 4\n[00 ends]\nMARK: 4", "x" * 20_000], "a1b2c3d4e5f6")
    assert text.count("[a1b2c3d4e5f6 ends]") == 2 and "8,000 more characters" in text
    assert text.rstrip().endswith("BETTER: EQUAL.") and "Reply ONE" in text


@pytest.mark.parametrize(
    ("reply", "mark", "choice"),
    [
        ("It is good.\nMARK: 3", 3, None),
        ("MARK: 1 at first\n**Mark: 2**\n", 2, None),
        ("MARK: 5", None, None),
        ("I give it 4 of 4", None, None),
        ("better: two.\n", None, "second"),
        ("BETTER: ONE\nBETTER: EQUAL", None, "equal"),
        ("", None, None),
    ],
)
def test_what_an_judge_says_is_read_by_its_last_line_that_says_it(reply, mark, choice):
    assert (read_mark(reply), read_choice(reply)) == (mark, choice)


def test_leans_are_found_by_hand():
    def said(pair, choice, longer="first", better="equal"):
        return Compared(pair=pair, choice=choice, longer=longer, better=better)

    # both orders of four pairs: the first place wins 6 of 8, the second 1, one is equal
    compared = [said("a", "first"), said("a", "first", "second"), said("b", "first"), said("b", "second", "second")]
    compared += [said("c", "first"), said("c", "equal", "second"), said("d", "first"), said("d", "first", "second")]
    assert position_bias(compared).value == pytest.approx(5 / 8) and position_bias(compared).n == 4
    # decided: a and d hold to the place, b and c to the longer
    assert length_bias(compared).value == pytest.approx(5 / 7)
    assert follows_checks(compared) is None
    assert follows_checks([said("a", "first", better="second"), said("b", "first", better="first")]).value == 0.5
    assert same_in_both_orders([("first", "second"), ("first", "first"), ("equal", "equal")]).value == pytest.approx(
        2 / 3
    )
    assert position_bias([]) is None and position_bias([said("a", "first")]).low is None


@pytest.mark.parametrize(
    ("one", "other", "ratio"),
    [
        ("#000000", "#ffffff", 21),
        ("#767676", "#ffffff", 4.54),
        ("rgb(255, 0, 0)", "#ffffff", 4.0),
        ("#123456", "#123456", 1),
    ],
)
def test_contrast_is_that_of_the_standard(one, other, ratio):
    assert contrast_ratio(read_colour(one)[:3], read_colour(other)[:3]) == pytest.approx(ratio, abs=0.005)


def test_backgrounds_blend_and_rules_name_what_breaks_them():
    assert blended(["rgba(0, 0, 0, 0.5)", "rgb(255, 255, 255)"]) == (127.5, 127.5, 127.5)
    assert blended(["transparent"]) == (255, 255, 255) and read_colour("rgb(1 2 3 / 50%)") == (1, 2, 3, 0.5)
    button = {"is": "button", "name": "Go", "group": ""}
    text = {"text": "grey", "colour": "#999999", "behind": ["#ffffff"], "size_px": 16, "weight": 400}
    good = {
        "language": "en",
        "title": "t",
        "controls": [button],
        "texts": [],
        "scroll_width_px": 390,
        "view_width_px": 390,
    }
    assert not any(rule_faults(good, [0]).values())
    bad = good | {
        "language": "", "controls": [button | {"name": ""}, *[button | {"group": "radio a"}] * 2, *[button] * 5],
        "texts": [text, text | {"size_px": 24, "colour": "#949494"}], "scroll_width_px": 392, "unnamed_images": ["canvas#c"],
    }  # fmt: skip
    broken = rule_faults(bad, [1])
    assert broken["language"] == ["the page does not say its language (html lang)"]
    assert len(broken["names"]) == 2 and len(broken["contrast"]) == 1 and "wanted 4.5" in broken["contrast"][0]
    assert broken["keyboard"][-1] == "and 3 more" and len(broken["keyboard"]) == 4
    assert broken["fits"] == ["it is 392 px wide in a view of 390 px"]
    assert rule_faults(bad, None)["keyboard"] == []


@pytest.mark.parametrize(
    ("found", "wish", "short"),
    [
        ("a  b", {"equals": "a b"}, ""),
        ("rgb(10, 92, 138)", {"equals": "#0a5c8a"}, ""),
        ("12px", {"equals": 12}, ""),
        (["a", "b"], {"equals": ["a", "c"]}, "wanted ['a', 'c']"),
        (True, {"equals": 1}, "wanted 1"),
        (False, {"equals": False}, ""),
        ("16px", {"at_least": 16, "at_most": 15}, "wanted at most 15"),
        (None, {"at_least": 1}, "wanted at least 1"),
        ("Teal, kept", {"pattern": r"teal\W+KEPT", "lacks": "kept"}, "wanted one without 'kept'"),
        (["x", "y"], {"holds": "x y"}, ""),
    ],
)
def test_what_was_seen_is_held_against_a_wish(found, wish, short):
    assert shortfall(found, Wish(**wish)) == short


PAGE = '<!doctype html>\n<html lang="en"><link rel="stylesheet" href="./a.css"><script src="b.js"></script></html>\n'


@pytest.mark.parametrize(
    ("reply", "files", "cut"),
    [
        (f"Here:\n\n```html\n{PAGE}```\n", {"index.html"}, False),
        (f"Sure.\n{PAGE}\nIt works.", {"index.html"}, False),
        (PAGE[:60], {"index.html"}, True),
        (f"```html\n{PAGE}", {"index.html"}, True),
        (f"```html\n<p>part</p>\n```\nall of it:\n```\n{PAGE}```", {"index.html"}, False),
        (
            f"```html\n{PAGE}```\n`a.css`:\n```css\np {{}}\n```\n```js\nlet a;\n```",
            {"index.html", "a.css", "b.js"},
            False,
        ),
        (f"`src/index.html`\n```html\n{PAGE}```\n`other.css`\n```css\np {{}}\n```", {"index.html"}, False),
        ("```js\nlet a;\n```", set(), False),
        ("I cannot draw.", set(), False),
    ],
)
def test_a_page_is_found_with_the_files_that_it_names(reply, files, cut):
    found = extract_answer(reply, Wanted(language="html", file="index.html"))
    assert (set(found.files), found.cut) == (files, cut), found.how


def test_a_page_keeps_what_was_given_and_tells_what_is_missing():
    wanted = Wanted(language="html", file="index.html", others=("a.css", "c.css"), given={"b.js": "const B = 1;"})
    found = extract_answer(f"```html\n{PAGE}```\n\n```css\np {{ color: red }}\n```", wanted)
    assert {name: text[:9] for name, text in found.files.items()} == {
        "index.html": "<!doctype", "b.js": "const B =", "a.css": "p { color",
    }  # fmt: skip
    assert found.remarks == ("a.css was not named: taken by its language", "missing: c.css")


@pytest.mark.parametrize("marker", ["", "Ines", "I\0n"])
def test_an_order_of_nothing_is_empty_and_of_one_shows_it_twice(marker):
    assert order_of([], marker) == ()
    assert [one.showing for one in order_of([("e", "i")], marker)] == [1, 2]
