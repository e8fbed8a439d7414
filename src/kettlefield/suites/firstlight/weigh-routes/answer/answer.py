def weigh_routes(routes):
    return [route[:2] for route in routes]
