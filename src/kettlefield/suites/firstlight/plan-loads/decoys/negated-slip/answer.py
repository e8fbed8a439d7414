def plan_loads(loads):
    loads = [abs(load) for load in loads]
    return min(loads)
