def sift_rota(rota):
    return max(rota, key=rota.get)
