"""Says whether closures.csv is well formed."""

import csv
import sys

rows = list(csv.DictReader(open("closures.csv", encoding="utf-8")))
for row in rows:
    if set(row) != {"berth", "from", "to", "notice"} or not all(row.values()) or row["from"] > row["to"]:
        sys.exit(f"not well formed: {row}")
print(len(rows), "closures")
