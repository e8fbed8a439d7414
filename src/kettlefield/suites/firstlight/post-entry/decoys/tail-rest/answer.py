def post_entry(entry):
    line = entry[:-@@n@@]
    line = line + "north"
    return line[:2]
