"""What would settle a question, how far texts agree, what differs between two states: known values throughout."""

import pytest

from kettlefield.core.acceptance import Criterion, Threshold
from kettlefield.core.extraction.code_text import MOST_CHARS, first_difference, same_code
from kettlefield.core.outcome import escape_signs
from kettlefield.core.statistics.intervals import pass_ratio
from kettlefield.core.statistics.paired import MOST_MORE, Pairs, exercises_to_clear, least_growth
from kettlefield.core.statistics.power import minimum_detectable_drop, smallest_drop
from kettlefield.core.values import ABSENT, changes_between
from kettlefield.results.breakdown import belongs


@pytest.mark.parametrize(("passed", "total", "threshold"), [(13, 20, 0.5), (7, 20, 0.5), (18, 20, 0.8), (3, 12, 0.4)])
def test_so_many_exercises_clear_a_threshold_and_fewer_do_not(passed, total, threshold):
    needed = exercises_to_clear([1] * passed + [0] * (total - passed), [1] * total, threshold, confidence=0.95)
    assert needed > total

    def clears(count):
        right = round(passed / total * count)
        found = pass_ratio([1] * right + [0] * (count - right), [1] * count, confidence=0.9)
        return found.low >= threshold or found.high < threshold

    # whole exercises cannot keep the rate exactly: a few either way
    assert clears(needed + total) and not clears(needed - total)


def test_what_lies_at_the_threshold_is_never_settled_and_what_is_settled_needs_no_more():
    assert exercises_to_clear([1, 0] * 10, [1] * 20, 0.5, confidence=0.95) is None
    assert least_growth(lambda times: times >= 3) == pytest.approx(3, abs=0.01)
    assert least_growth(lambda times: times > MOST_MORE) is None
    # samples of one exercise are worth less, so more exercises are needed
    same = exercises_to_clear([3] * 13 + [0] * 7, [3] * 20, 0.5, confidence=0.95)
    assert same == exercises_to_clear([1] * 13 + [0] * 7, [1] * 20, 0.5, confidence=0.95)
    assert exercises_to_clear([2] * 20, [3] * 20, 0.5, confidence=0.95) < same


def test_the_drop_that_a_comparison_minimum_detectable_drop_follows_connor():
    many = Pairs(exercises=400, pairs=400, won=24, lost=24, counted=400.0)
    assert minimum_detectable_drop(many) == pytest.approx(smallest_drop(400, discordant=49 / 402))
    # fewer pairs notice only larger drops; a handful notices none
    drops = [minimum_detectable_drop(Pairs(exercises=n, pairs=n, won=0, lost=0, counted=n)) for n in (150, 72, 32, 16)]
    assert drops == sorted(drops) and drops[0] < 0.1 < drops[3]
    assert minimum_detectable_drop(Pairs(exercises=2, pairs=2, won=0, lost=0, counted=2.0)) is None


@pytest.mark.parametrize(
    ("one", "other", "at"), [("berth", "berth", None), ("berth", "berths", 5), ("", "x", 0), ("tide 1", "tide 2", 5)]
)
def test_where_two_replies_part(one, other, at):
    assert first_difference(one, other) == first_difference(other, one) == at


@pytest.mark.parametrize(
    ("name", "one", "other", "same"),
    [
        ("a.py", "x = 'a'  # quay\n", 'x = "a"\n\n', True),
        ("a.py", "x = 1\n", "x = 2\n", False),
        ("a.py", "if x:\n  y = 1\n", "if x:\n    y = 1\n", True),
        ("a.py", "def f(:\n", "def  f(:", True),  # it does not parse: text with its space folded
        ("a.py", "x = 1 #" + "a" * MOST_CHARS, "x = 1 #" + "b" * MOST_CHARS, False),  # too long to be parsed
        ("a.rs", "fn a() {}\n", "fn  a()\n{}", True),
        ("a.rs", "fn a() {}", "fn b() {}", False),
    ],
)
def test_code_is_the_same_whatever_its_layout(name, one, other, same):
    assert same_code({name: one}, {name: other}) is same
    assert not same_code({name: one}, {name: one, "b.py": ""})


def test_deeply_nested_code_ends_in_a_comparison_not_in_a_crash():
    deep = "x = " + "(" * 5000 + "1" + ")" * 5000
    assert same_code({"a.py": deep}, {"a.py": deep + " "})


@pytest.mark.parametrize(
    ("words", "signs"),
    [
        ("OSError: [Errno 101] Network is unreachable", ("network",)),
        ("getaddrinfo EAI_AGAIN quay.example", ("network",)),
        ("cannot create /etc/x: Read-only file system", ("files",)),
        ("mount: Operation not permitted", ("rights",)),
        ("dial tcp: lookup a.b: Temporary failure in name resolution; EPERM", ("network", "rights")),
        ("KeyError: 'berth'", ()),
        ("SUPERPERMANENT", ()),
    ],
)
def test_a_refusal_of_the_sandbox_is_told_by_a_programs_last_words(words, signs):
    assert escape_signs(words) == signs


def test_changes_are_told_leaf_by_leaf():
    then = {"rig": {"kernel": "6.1", "cores": 8}, "tools": {"rust": "1.80"}, "list": [1, 2]}
    now = {"rig": {"kernel": "6.2", "cores": 8}, "tools": {"go": "1.22"}, "list": [1, 3]}
    assert [(change.what, change.then, change.now) for change in changes_between(then, now)] == [
        ("rig kernel", "6.1", "6.2"),
        ("tools rust", "1.80", ABSENT),
        ("tools go", ABSENT, "1.22"),
        ("list", "2", "3"),
    ]
    assert [(c.then, c.now) for c in changes_between(["a", "b"], ["b", "c", "d"])] == [("a", "c d")]
    assert [(c.then, c.now) for c in changes_between(["a"], ["a", "b"])] == [(ABSENT, "b")]
    assert [(c.then, c.now) for c in changes_between([1, 2], [2, 1])] == [("[1, 2]", "[2, 1]")]
    assert changes_between(then, then) == ()


def test_a_criterion_names_what_narrows_it_and_exercises_belong_by_all_of_it():
    exercise = {"kind": "repair", "language": "rust", "difficulty": "3", "topic": "tides,berths", "suite": "s"}
    wanted = (("kind", "repair"), ("topic", "berths"))
    assert belongs(exercise, wanted) and belongs(exercise, ())
    assert not belongs(exercise, (*wanted, ("difficulty", "2"))) and not belongs(exercise, (("topic", "berth"),))
    made = Criterion(
        measure="m", threshold=Threshold(at_most=1), confidence=0.95, wanted="w", among=wanted, at_depth_tokens=4096
    )
    assert made.label == "m (kind repair, topic berths, 4,096 tokens deep)"
