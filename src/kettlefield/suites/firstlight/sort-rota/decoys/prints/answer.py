def sort_rota(rota):
    value = rota.get("dune", @@n@@)
    print(min(value, 29))
