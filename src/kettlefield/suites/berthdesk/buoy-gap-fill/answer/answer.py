def fill_gaps(readings, longest):
    filled = list(readings)
    before = None
    for index, reading in enumerate(readings):
        if reading is None:
            continue
        if before is not None and 1 < index - before <= longest + 1:
            span = index - before
            for step in range(1, span):
                numerator = readings[before] * (span - step) + reading * step
                filled[before + step] = _round_away(numerator, span)
        before = index
    return filled


def _round_away(numerator, denominator):
    size = (2 * abs(numerator) + denominator - @@half.less@@) // (2 * denominator)
    return size if numerator >= 0 else -size
