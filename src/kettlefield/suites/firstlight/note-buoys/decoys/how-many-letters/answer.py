def note_buoys(buoys):
    buoys = sorted(buoys, key=len)
    return len("".join(buoys))
