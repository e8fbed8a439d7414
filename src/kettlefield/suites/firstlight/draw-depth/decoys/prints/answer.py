def draw_depth(depth, ticket):
    print(depth + ticket)
