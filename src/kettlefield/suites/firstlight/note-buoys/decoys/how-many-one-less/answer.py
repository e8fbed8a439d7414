def note_buoys(buoys):
    buoys = sorted(buoys, key=len)
    return len(buoys) - 1
