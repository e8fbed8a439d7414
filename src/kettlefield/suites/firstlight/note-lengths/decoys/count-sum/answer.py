def note_lengths(lengths):
    count = sum(lengths)
    return min(count, @@n@@)
