def share(pence, weights):
    total = sum(weights)
    if pence < 0 or total == 0:
        raise ValueError("nothing can be shared")
    shares = [pence * weight // total for weight in weights]
    left = pence - sum(shares)
    order = sorted(range(len(weights)), key=lambda place: -(pence * weights[place] % total))
    for place in order[:left]:
        shares[place] += 1
    return shares
