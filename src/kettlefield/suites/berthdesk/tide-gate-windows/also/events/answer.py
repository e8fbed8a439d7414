import math
from fractions import Fraction


def crossing(a, b, sill):
    (t0, h0), (t1, h1) = a, b
    return Fraction(t0) + Fraction(sill - h0, h1 - h0) * (t1 - t0)


def gate_windows(samples, sill):
    windows = []
    if len(samples) < 2:
        return windows
    opened = Fraction(samples[0][0]) if samples[0][1] >= sill else None
    for a, b in zip(samples, samples[1:]):
        if opened is None and b[1] >= sill:
            opened = crossing(a, b, sill)
        elif opened is not None and b[1] < sill:
            windows.append((opened, crossing(a, b, sill)))
            opened = None
    if opened is not None:
        windows.append((opened, Fraction(samples[-1][0])))
    result = []
    for start, end in windows:
        first, last = math.@@safe.start@@(start), math.@@safe.end@@(end)
        if first <= last:
            result.append([first, last])
    return result
