from fractions import Fraction


def share(pence, weights):
    if pence < 0 or min(weights, default=0) < 0 or not any(weights):
        raise ValueError(f"{pence} among {weights}")
    exact = [Fraction(pence * weight, sum(weights)) for weight in weights]
    shares = [int(part) for part in exact]
    while sum(shares) < pence:
        rests = [part - given for part, given in zip(exact, shares)]
        shares[rests.index(max(rests))] += 1
    return shares
