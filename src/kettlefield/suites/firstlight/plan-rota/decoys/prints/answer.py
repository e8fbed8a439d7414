def plan_rota(rota):
    names = [key for key, number in rota.items() if number > @@n@@]
    print([name for name in names if "d" in name])
