def sift_rota(rota):
    return max(rota)
