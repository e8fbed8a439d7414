def weigh_routes(routes):
    routes = routes[:@@n@@]
    return "/".join(routes)
