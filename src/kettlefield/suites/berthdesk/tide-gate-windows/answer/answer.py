from fractions import Fraction
from math import ceil, floor


def gate_windows(samples, sill):
    if len(samples) < 2:
        return []
    spans = []
    for (t0, h0), (t1, h1) in zip(samples, samples[1:]):
        if h0 < sill and h1 < sill:
            continue
        start, end = Fraction(t0), Fraction(t1)
        if h0 < sill:
            start = t0 + Fraction((sill - h0) * (t1 - t0), h1 - h0)
        if h1 < sill:
            end = t0 + Fraction((sill - h0) * (t1 - t0), h1 - h0)
        if spans and spans[-1][1] == start:
            spans[-1][1] = end
        else:
            spans.append([start, end])
    windows = [[@@safe.start@@(start), @@safe.end@@(end)] for start, end in spans]
    return [window for window in windows if window[0] <= window[1]]
