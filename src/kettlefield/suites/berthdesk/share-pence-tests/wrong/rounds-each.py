def share(pence, weights):
    total = sum(weights)
    if pence < 0 or any(weight < 0 for weight in weights) or total == 0:
        raise ValueError("nothing can be shared")
    return [(2 * pence * weight + total) // (2 * total) for weight in weights]
