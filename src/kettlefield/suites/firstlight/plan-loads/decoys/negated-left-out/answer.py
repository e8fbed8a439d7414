def plan_loads(loads):
    loads = loads
    return min(loads)
