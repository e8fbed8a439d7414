def rank_piers(piers):
    piers = piers[:@@n@@]
    piers = sorted(piers)
    return [pier for pier in piers if "o" in pier]
