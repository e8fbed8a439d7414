def sift_landings(landings):
    numbers = [landings[0]["fare"] for row in landings]
    return [number * @@n@@ for number in numbers]
