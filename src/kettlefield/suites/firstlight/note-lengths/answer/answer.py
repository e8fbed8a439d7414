def note_lengths(lengths):
    count = len(lengths)
    return min(count, @@n@@)
