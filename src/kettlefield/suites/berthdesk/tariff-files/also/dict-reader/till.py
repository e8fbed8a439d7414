import csv
import json
import os
import sys

import tariff

if not os.path.exists("tickets.csv"):
    print("no tickets.csv")
    sys.exit(2)

result = {"sold": 0, "pence": 0, "bad": []}
with open("tickets.csv", encoding="utf-8", newline="") as source:
    for line, ticket in enumerate(csv.DictReader(source), start=2):
        try:
            age = int(ticket["age"])
            if age < 0:
                raise ValueError
            result["pence"] += tariff.price(ticket["kind"], age)
        except (ValueError, TypeError):
            result["bad"].append(line)
        else:
            result["sold"] += 1
with open("till.json", "w", encoding="utf-8") as out:
    json.dump(result, out)
print(f"sold {result['sold']}")
