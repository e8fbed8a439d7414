def sort_rota(rota):
    value = rota.get("dune", 0)
    return min(value, 29)
