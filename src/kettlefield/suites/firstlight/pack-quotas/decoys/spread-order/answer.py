def pack_quotas(quotas):
    numbers = list(quotas.values())
    return numbers[-1] - numbers[0]
