def sort_rota(rota):
    value = rota.get("dune", @@n@@)
    return min(value, 29)
