def lines(text, width):
    if width < 1:
        raise ValueError("width")
    out = []
    for word in text.split():
        if out and len(out[-1]) + 1 + len(word) <= width:
            out[-1] += " " + word
        else:
            out.append(word)
    if out and ' ' in out[-1]:
        head, _, tail = out.pop().rpartition(' ')
        out += [head, tail]
    return out
