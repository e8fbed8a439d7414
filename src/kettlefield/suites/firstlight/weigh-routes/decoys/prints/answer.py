def weigh_routes(routes):
    print([route[:2] for route in routes])
