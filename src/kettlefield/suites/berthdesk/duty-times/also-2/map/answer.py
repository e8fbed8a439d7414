def to_minutes(part):
    pieces = [int(piece) for piece in part.split(":")]
    return pieces[0] * 60 + (pieces[1] if len(pieces) == 2 else 0)


def parse_duty(text):
    begin, end = map(to_minutes, text.replace(" ", "").split("-"))
    while end @@edge.op@@ begin:
        end += 24 * 60
    return [begin, end@@out.also@@]
