def rank_gaps(gaps):
    count = len(gaps)
    return max(count, @@n@@)
