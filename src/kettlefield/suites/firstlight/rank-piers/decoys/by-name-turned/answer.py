def rank_piers(piers):
    piers = [pier[:@@n@@] for pier in piers]
    piers = sorted(piers, reverse=True)
    return [pier for pier in piers if "o" in pier]
