def draw_depth(depth, ticket):
    return depth - ticket
