"""Which samples make a figure, and who is beaten by whom: known values."""

import pytest

from kettlefield.core.statistics.pareto import frontier
from kettlefield.core.timing.usable import Sample, sessions_agree, usable


def samples(values, session=1, disturbed=None):
    return [Sample(value=value, session=session, disturbed=disturbed) for value in values]


def test_disturbed_samples_are_left_out_and_too_few_others_make_no_figure():
    busy = samples([10.4] * 4, disturbed="other processes kept 1.9 cores busy")
    found = usable([*samples([1.0, 1.1, 1.2]), *busy])
    assert (found.values, found.doubt) == ((1.0, 1.1, 1.2), "")
    found = usable([*samples([1.0, 1.1]), *busy])
    assert found.doubt == "disturbed: 4 of 6 samples (other processes kept 1.9 cores busy)"
    assert usable(busy).values == () and "disturbed" in usable(busy).doubt
    assert usable(samples([1.0, 1.1])).doubt == ""  # no more than two were taken
    assert usable([]).doubt == ""


@pytest.mark.parametrize(
    ("earlier", "later", "agree"),
    [
        ([1.0, 1.01, 1.02, 1.03] * 4, [1.0, 1.02, 1.01, 1.04] * 4, True),
        ([1.0, 1.01, 1.02, 1.03] * 4, [1.5, 1.51, 1.52, 1.53] * 4, False),
        ([1.0, 1.001, 1.002] * 9, [1.02, 1.021, 1.022] * 9, True),  # certain, and of no account
        ([1.0], [1.2], True),
        ([1.0], [1.3], False),
    ],
)
def test_sessions_are_pooled_only_where_they_agree(earlier, later, agree):
    assert sessions_agree(earlier, later) is agree
    found = usable([*samples(earlier), *samples(later, session=2)])
    if agree:
        assert (found.values, found.doubt) == ((*earlier, *later), "")
    else:
        assert found.values == tuple(later) and found.doubt.startswith("sessions differ: medians of")


def test_only_a_difference_beyond_chance_beats():
    near = [((0.6, 0.8, 0.9), (-101, -100, -99)), ((0.65, 0.85, 0.95), (-102, -100.5, -98))]
    assert frontier(near) == (True, True)
    # clearly less memory, and a pass rate that cannot be told from theirs
    assert frontier([*near, ((0.55, 0.75, 0.85), (-51, -50, -49))]) == (False, False, True)
    assert frontier([((0.9, 0.93, 0.95), (-100, -100, -100)), ((0.1, 0.15, 0.2), (-50, -50, -50))]) == (True, True)
    # by hand: 1.00 - 0.68 = 0.32 is more than the root of 0.18^2 + 0.17^2 = 0.248, though the intervals overlap
    assert frontier([((0.82, 1.0, 1.0),), ((0.44, 0.68, 0.85),)]) == (True, False)
    assert frontier([((0.82, 1.0, 1.0),), ((0.63, 0.85, 0.95),)]) == (True, True)
    # the last beats the second, which beats the first, but is worse than the first itself: it puts out the second alone
    chain = [((0.9, 1.0, 1.0), (-13, -13, -13)), ((0.6, 0.85, 0.95), (-11, -11, -11)), ((0.4, 0.6, 0.8), (-9, -9, -9))]
    assert frontier(chain) == (True, False, True)
    assert frontier([]) == ()
