def fold_repairs(repairs):
    numbers = [row["wait"] for row in repairs]
    return max(numbers)
