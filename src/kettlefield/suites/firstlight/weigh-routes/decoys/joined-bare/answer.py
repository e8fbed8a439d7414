def weigh_routes(routes):
    routes = [route[:@@n@@] for route in routes]
    return "".join(routes)
