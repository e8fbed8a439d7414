def fold_repairs(repairs):
    numbers = [repairs[0]["wait"] for row in repairs]
    return sum(numbers)
