from math import ceil, floor


def gate_windows(samples, sill):
    windows = []
    for (t0, h0), (t1, h1) in zip(samples, samples[1:]):
        crossing = t0 + (sill - h0) * (t1 - t0) / (h1 - h0)
        if h0 < sill and h1 < sill:
            continue
        start = ceil(crossing) if h0 < sill else t0
        end = floor(crossing) if h1 < sill else t1
        if windows and windows[-1][1] == start:
            windows[-1][1] = end
        else:
            windows.append([start, end])
    return [window for window in windows if window[0] <= window[1]]
