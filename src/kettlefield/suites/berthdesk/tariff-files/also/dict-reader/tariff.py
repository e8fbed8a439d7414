FULL = dict(foot=@@foot@@, bike=@@bike@@)


def price(kind, age):
    try:
        full = FULL[kind]
    except KeyError:
        raise ValueError(kind) from None
    if age < 4:
        return 0
    if age < 16:
        return full // 2
    return full
