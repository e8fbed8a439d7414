FOOT = @@foot@@
BIKE = @@bike@@


def price(kind, age):
    """Whole pence of one ticket."""
    if kind == "foot":
        full = FOOT
    elif kind == "bike":
        full = BIKE
    else:
        raise ValueError("no such kind: " + repr(kind))
    if age >= 16:
        return full
    elif age >= 4:
        return full // 2
    else:
        return 0
