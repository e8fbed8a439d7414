def rank_gaps(gaps):
    count = len(gaps)
    return min(count, @@n@@)
