def sift_rota(rota):
    print(max(rota, key=rota.get))
