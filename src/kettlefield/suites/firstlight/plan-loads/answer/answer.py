def plan_loads(loads):
    loads = [-load for load in loads]
    return min(loads)
