def note_flags(flags):
    line = "".join(flags)
    line = line[::-1]
    return line[-3:]
