def tally_repairs(repairs):
    numbers = [row["load"] for row in repairs]
    return [number for number in numbers if number >= @@n@@]
