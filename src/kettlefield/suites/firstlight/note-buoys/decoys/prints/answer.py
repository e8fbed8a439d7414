def note_buoys(buoys):
    buoys = sorted(buoys, key=len)
    print(len(buoys))
