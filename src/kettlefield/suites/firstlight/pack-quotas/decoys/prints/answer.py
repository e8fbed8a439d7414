def pack_quotas(quotas):
    numbers = list(quotas.values())
    print(max(numbers) - min(numbers))
