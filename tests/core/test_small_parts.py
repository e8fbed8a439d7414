"""Units, agreement of values, and text made safe; and what core may import."""

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core import units
from kettlefield.core.as_dict import as_dict
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.values import Likeness, same_items, values_agree, words_agree


class Berth(msgspec.Struct, frozen=True):
    name: str
    tides_m: tuple[float, ...] = ()


class Quay(msgspec.Struct, frozen=True):
    berths: tuple[Berth, ...]
    by_ship: dict[str, Berth]
    spare: Berth | None
    notes: list[str | Berth]


def test_a_record_is_a_dictionary_with_those_inside_it():
    north, south = Berth("north", (1.5, 4.0)), Berth("south")
    quay = Quay((north, south), {"Gannet": north}, None, ["closed on Sunday", south])
    plain = {"name": "north", "tides_m": (1.5, 4.0)}, {"name": "south", "tides_m": ()}
    assert as_dict(quay) == {
        "berths": plain, "by_ship": {"Gannet": plain[0]}, "spare": None, "notes": ["closed on Sunday", plain[1]],
    }  # fmt: skip
    found = as_dict(quay)
    found["notes"].append("open")
    found["by_ship"].clear()
    assert len(quay.notes) == 2 and quay.by_ship == {"Gannet": north}  # nothing of it is shared


@pytest.mark.parametrize(
    ("text", "value"), [("16 GiB", 16 * 2**30), ("1.5 MB", 1_500_000), ("512KiB", 524_288), (" 7 B ", 7)]
)
def test_sizes(text, value):
    assert units.parse_size(text) == value


@pytest.mark.parametrize(("text", "value"), [("90 s", 90), ("250 ms", 0.25), ("2 min", 120), ("1.5 h", 5400)])
def test_durations(text, value):
    assert units.parse_duration(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["16", "GiB", "-3 s", "0 s", "3 weeks", "1e3 s", "", "16 gib"])
def test_a_quantity_without_a_known_unit_is_refused(text):
    for parse in (units.parse_size, units.parse_duration):
        with pytest.raises(ValueError, match="write"):
            parse(text)


@pytest.mark.parametrize(
    ("shown", "expected"),
    [
        (units.format_bytes(7.52 * 2**30), "7.52 GiB"),
        (units.format_bytes(900), "900 B"),
        (units.format_bytes(None), "-"),
        (units.format_duration(0.412), "412 ms"),
        (units.format_duration(3.2104), "3.21 s"),
        (units.format_duration(125), "2 min 05 s"),
        (units.format_duration(7380), "2 h 03 min"),
        (units.three_digits(12345.6), "12,346"),
        (units.three_digits(0.01234), "0.0123"),
        (units.three_digits(0), "0"),
    ],
)
def test_quantities_are_shown_with_their_unit(shown, expected):
    assert shown == expected


@pytest.mark.parametrize(
    ("found", "expected", "agree"),
    [
        (1, 1.0, True),
        (1, True, False),
        (0, None, False),
        ("1", 1, False),
        ([1, 2], [1, 2], True),
        ([1, 2], [2, 1], False),
        ({"a": 1, "b": 2}, {"b": 2, "a": 1}, True),
        ({"a": 1}, {"a": 1, "b": 2}, False),
        (0.1 + 0.2, 0.3, False),
        (float("nan"), 0.0, False),
    ],
)
def test_values_agree_exactly(found, expected, agree):
    assert values_agree(found, expected) is agree


def test_tolerance_is_absolute_or_relative_whichever_is_larger():
    assert values_agree(0.1 + 0.2, 0.3, Likeness(tolerance=1e-9))
    assert values_agree(1_000_001, 1_000_000, Likeness(tolerance=1e-6))
    assert not values_agree(1_000_002, 1_000_000, Likeness(tolerance=1e-6))
    assert not values_agree(float("nan"), 1.0, Likeness(tolerance=0.5))


@pytest.mark.parametrize(
    ("found", "expected", "agree"),
    [
        ([1, 2, 2], [2, 1, 2], True),
        ([1, 2, 2], [2, 1, 1], False),
        ([[1], {"a": 2}], [{"a": 2}, [1]], True),
        ([1], [1, 1], False),
        ("ab", ["a", "b"], False),
        ([True], [1], False),
    ],
)
def test_items_agree_in_any_order(found, expected, agree):
    assert same_items(found, expected) is agree


@pytest.mark.parametrize(
    ("found", "expected", "agree"),
    [
        ("mean  3.14159\n", "mean 3.1416", True),
        ("mean 3.2", "mean 3.1416", False),
        ("mean 3.1416 m", "mean 3.1416", False),
        ("depth 1e3", "depth 1000.0", True),
        ("depth nan", "depth 1", False),
        ("ebb 3", "flood 3", False),
    ],
)
def test_words_agree_within_a_tolerance(found, expected, agree):
    assert words_agree(found, expected, tolerance=1e-4) is agree


def test_hostile_nesting_never_agrees_and_never_breaks():
    deep = []
    for _ in range(5000):
        deep = [deep]
    assert not values_agree(deep, deep)


@given(st.text())
def test_visible_text_holds_no_control_character(text):
    assert not any(ord(ch) < 32 and ch not in "\n\t" for ch in visible(text))
    assert "\x1b" not in visible("\x1b[31mred")
    assert "\u202e" not in visible("a\u202eb")


def test_shortening_states_what_is_left_out():
    assert shorten("abcdef", 4) == "abcd ... (2 more characters)"
    assert shorten("abc", 4) == "abc"
