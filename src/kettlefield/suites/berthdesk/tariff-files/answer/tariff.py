PRICES = {"foot": @@foot@@, "bike": @@bike@@}


def price(kind, age):
    if kind not in PRICES:
        raise ValueError(f"unknown kind {kind}")
    if age < 4:
        return 0
    return PRICES[kind] // 2 if age < 16 else PRICES[kind]
