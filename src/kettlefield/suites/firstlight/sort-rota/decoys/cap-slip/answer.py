def sort_rota(rota):
    value = rota.get("dune", @@n@@)
    return max(value, 29)
