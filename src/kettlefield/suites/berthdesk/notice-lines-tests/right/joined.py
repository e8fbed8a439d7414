def lines(text, width):
    if width < 1:
        raise ValueError("width")
    out = []
    for word in text.split():
        if out and len(out[-1]) + 1 + len(word) <= width:
            out[-1] += " " + word
        else:
            out.append(word)
    return out
