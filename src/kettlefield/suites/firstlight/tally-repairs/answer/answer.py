def tally_repairs(repairs):
    numbers = [row["load"] for row in repairs if row["cabin"] == "gull"]
    return [number for number in numbers if number >= @@n@@]
