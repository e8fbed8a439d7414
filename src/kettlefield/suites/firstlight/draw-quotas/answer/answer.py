def draw_quotas(quotas):
    return list(quotas)
