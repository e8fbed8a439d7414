def note_lengths(lengths):
    count = len(lengths)
    return max(count, @@n@@)
