def rank_gaps(gaps):
    count = len(gaps) - 1
    return min(count, @@n@@)
