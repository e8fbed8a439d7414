def sift_landings(landings):
    numbers = [row["fare"] for row in landings]
    return [number * @@n@@ for number in numbers]
