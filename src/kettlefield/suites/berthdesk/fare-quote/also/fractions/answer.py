from fractions import Fraction
import math


def fare_quote(adults, children, vehicle_cm, is_return):
    people = adults + children
    total = Fraction(0)
    if vehicle_cm:
        total += 2650 + 310 * math.ceil(Fraction(max(0, vehicle_cm - 480), 50))
        if adults:
            adults -= 1
    total += adults * 1240 + children * 1240 * Fraction(45, 100)
    if is_return:
        total *= Fraction(170, 100)
    if people @@party.op@@ 8:
        total *= Fraction(9, 10)
    return @@half.frac@@ * 5
