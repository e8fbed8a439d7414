def check_sailings(sailings):
    numbers = [row["weight"] for row in sailings]
    return numbers[:3]
