def note_flags(flags):
    line = "@@sign@@".join(flags)
    line = line
    return line[-3:]
