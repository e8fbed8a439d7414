def draw_quotas(quotas):
    print(list(quotas))
