import csv
import json
import sys

from tariff import price


def main():
    try:
        with open("tickets.csv", newline="") as file:
            rows = list(csv.reader(file))
    except FileNotFoundError:
        print("no tickets.csv")
        return 2
    sold, pence, bad = 0, 0, []
    for number, row in enumerate(rows[1:], 2):
        try:
            kind, age = row
            if not age.isdigit():
                raise ValueError(age)
            pence += price(kind, int(age))
            sold += 1
        except ValueError:
            bad.append(number)
    with open("till.json", "w") as file:
        json.dump({"sold": sold, "pence": pence, "bad": bad}, file)
    print("sold", sold)
    return 0


sys.exit(main())
