def draw_fares(fares):
    fares = fares
    fares = sorted(fares, reverse=True)
    return [fare % @@n@@ for fare in fares]
