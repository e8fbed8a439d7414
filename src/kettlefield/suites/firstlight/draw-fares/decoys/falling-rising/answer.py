def draw_fares(fares):
    fares = sorted(set(fares))
    fares = sorted(fares)
    return [fare % @@n@@ for fare in fares]
