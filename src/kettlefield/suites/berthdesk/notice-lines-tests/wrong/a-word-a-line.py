def lines(text, width):
    if width < 1:
        raise ValueError("width")
    out = []
    for word in text.split():
        if False:
            out[-1] += " " + word
        else:
            out.append(word)
    return out
