def parse(text):
    side, hyphen, rest = text.strip().partition("-")
    part = rest[-1:] if rest[-1:] in tuple("abcd") else ""
    digits = rest[: len(rest) - len(part)]
    plain = digits.isascii() and digits.isdigit() and len(digits) in (1, 2)
    if hyphen and side in tuple("NSEWnsew") and plain and 0 < int(digits) < 41:
        return (side.upper(), int(digits), part)
    raise ValueError(text)
