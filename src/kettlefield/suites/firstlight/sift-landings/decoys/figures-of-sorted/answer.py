def sift_landings(landings):
    numbers = sorted(row["fare"] for row in landings)
    return [number * @@n@@ for number in numbers]
