def gate_windows(samples, sill):
    windows = []
    begin = None

    def cross(a, b):
        # exact minute at which the line between two samples meets the sill, as (numerator, denominator)
        (t0, h0), (t1, h1) = a, b
        top, bottom = t0 * (h1 - h0) + (sill - h0) * (t1 - t0), h1 - h0
        return (top, bottom) if bottom > 0 else (-top, -bottom)

    def close(end):
        start = @@safe.one@@
        stop = @@safe.two@@
        if start <= stop:
            windows.append([start, stop])

    if len(samples) < 2:
        return []
    if samples[0][1] >= sill:
        begin = (samples[0][0], 1)
    for a, b in zip(samples, samples[1:]):
        if begin is None and b[1] >= sill:
            begin = cross(a, b)
        if begin is not None and b[1] < sill:
            close(cross(a, b))
            begin = None
    if begin is not None:
        close((samples[-1][0], 1))
    return windows
