def note_flags(flags):
    line = "@@sign@@".join(flags)
    line = "".join(sorted(line))
    return line[-3:]
