def rank_gaps(gaps):
    count = sum(gaps)
    return min(count, @@n@@)
