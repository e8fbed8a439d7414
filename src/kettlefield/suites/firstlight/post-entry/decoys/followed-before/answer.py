def post_entry(entry):
    line = entry[-@@n@@:]
    line = "north" + line
    return line[:2]
