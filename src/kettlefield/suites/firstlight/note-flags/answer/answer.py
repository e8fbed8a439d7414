def note_flags(flags):
    line = "@@sign@@".join(flags)
    line = line[::-1]
    return line[-3:]
