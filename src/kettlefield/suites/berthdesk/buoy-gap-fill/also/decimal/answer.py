from fractions import Fraction


def fill_gaps(readings, longest):
    result = readings[:]
    known = [i for i, value in enumerate(readings) if value is not None]
    for left, right in zip(known, known[1:]):
        lost = right - left - 1
        if not 0 < lost <= longest:
            continue
        slope = Fraction(readings[right] - readings[left], right - left)
        for i in range(left + 1, right):
            value = readings[left] + slope * (i - left)
            twice = abs(value) * 2
            size = @@half.dec@@
            result[i] = int(size) if value >= 0 else -int(size)
    return result
