from fractions import Fraction
from math import ceil, floor


def nearest(value):
    return @@half.frac@@


def fill_gaps(readings, longest):
    result = readings[:]
    n = len(readings)
    i = 0
    while i < n:
        if readings[i] is not None:
            i += 1
            continue
        j = i
        while j < n and readings[j] is None:
            j += 1
        if i > 0 and j < n and j - i <= longest:
            left, right = readings[i - 1], readings[j]
            slope = Fraction(right - left, j - i + 1)
            for k in range(i, j):
                result[k] = nearest(left + slope * (k - i + 1))
        i = j
    return result
