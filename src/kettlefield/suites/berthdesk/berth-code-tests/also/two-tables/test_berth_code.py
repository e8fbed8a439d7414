from berth_code import parse

for text, wanted in {
    "N-1": ("N", 1, ""), "s-40": ("S", 40, ""), "e-09": ("E", 9, ""), "W-23c": ("W", 23, "c"), "n-5a": ("N", 5, "a"),
    " E-8d ": ("E", 8, "d"), "S-30b": ("S", 30, "b"),
}.items():
    assert parse(text) == wanted, text


def fails(text):
    try:
        parse(text)
    except ValueError:
        return True
    return False


for text in ("N-0", "N-41", "N-100", "N-007", "N-4e", "N-4B", "N - 4", "N-4 a", "N4", "Q-4", "N-4c4", "", "N-"):
    assert fails(text), text
