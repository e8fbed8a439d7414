def draw_quotas(quotas):
    return sorted(quotas)
