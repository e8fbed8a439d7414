def pack_quotas(quotas):
    numbers = list(quotas.values())
    return max(numbers) - min(numbers)
