def lines(text, width):
    if width <= 0:
        raise ValueError(f"a board of {width} characters")
    words = text.split()
    done = []
    while words:
        count = 1
        while count < len(words) and len(" ".join(words[: count + 1])) <= width:
            count += 1
        done.append(" ".join(words[:count]))
        words = words[count:]
    return done
