def check_sailings(sailings):
    numbers = [row["weight"] for row in sailings if row["crew"] == "@@word@@"]
    print(numbers[:3])
