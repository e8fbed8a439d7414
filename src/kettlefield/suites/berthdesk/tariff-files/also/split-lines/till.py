import json
import os
import re
import sys

import tariff

if not os.path.exists("tickets.csv"):
    print("no tickets.csv")
    sys.exit(2)

sold = 0
pence = 0
bad = []
with open("tickets.csv", encoding="utf-8") as file:
    next(file, None)
    for number, line in enumerate(file, start=2):
        kind, _, age = line.rstrip("\r\n").partition(",")
        if not re.fullmatch("[0-9]+", age):
            bad.append(number)
            continue
        try:
            cost = tariff.price(kind, int(age))
        except ValueError:
            bad.append(number)
        else:
            sold += 1
            pence += cost

result = {"sold": sold, "pence": pence, "bad": bad}
with open("till.json", "w", encoding="utf-8") as out:
    out.write(json.dumps(result, indent=2))
print(f"sold {sold}")
