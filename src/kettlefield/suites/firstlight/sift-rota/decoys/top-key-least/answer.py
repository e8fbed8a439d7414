def sift_rota(rota):
    return min(rota, key=rota.get)
