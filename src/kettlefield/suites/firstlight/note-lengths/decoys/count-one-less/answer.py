def note_lengths(lengths):
    count = len(lengths) - 1
    return min(count, @@n@@)
