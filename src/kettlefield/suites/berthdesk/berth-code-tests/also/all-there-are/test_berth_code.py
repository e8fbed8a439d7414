import itertools
import sys
from berth_code import parse


def outcome(text):
    try:
        return parse(text)
    except ValueError:
        return "refused"


bad = 0
for side, number, part in itertools.product("NSEWnsew", range(0, 60), ["", "a", "b", "c", "d", "e", "A"]):
    for digits in {str(number), f"{number:02}"}:
        text = f"{side}-{digits}{part}"
        right = 1 <= number <= 40 and part not in ("e", "A")
        wanted = (side.upper(), number, part) if right else "refused"
        for shown in (text, f" {text}\t"):
            bad += outcome(shown) != wanted
for text in ["N-001", "N4", "N 4", "N- 4a", "N-4 a", "NN-4", "-4", "", "N-4aa", "N-4a.", "O-4"]:
    bad += outcome(text) != "refused"
sys.exit(min(bad, 1))
