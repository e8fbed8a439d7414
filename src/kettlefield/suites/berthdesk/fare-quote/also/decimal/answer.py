from decimal import Decimal, @@half.dec@@


def fare_quote(adults, children, vehicle_cm, is_return):
    vehicle = Decimal(0)
    free = 0
    if vehicle_cm > 0:
        extra = max(0, vehicle_cm - 480)
        vehicle = Decimal(2650 + 310 * ((extra + 49) // 50))
        free = min(1, adults)
    fare = Decimal(1240) * (adults - free) + Decimal(558) * children + vehicle
    if is_return:
        fare = fare * 2 * Decimal("0.85")
    if adults + children @@party.op@@ 8:
        fare *= Decimal("0.9")
    return int((fare / 5).quantize(Decimal(1), rounding=@@half.dec@@)) * 5
