import json
import sys

import reading
import rules

try:
    roster = reading.read_roster("roster.json")
except reading.RosterError as error:
    print("roster.json:", error)
    sys.exit(2)
names = rules.too_short(roster, @@rest@@)
with open("findings.json", "w", encoding="utf-8") as out:
    json.dump({"tired": names}, out)
print(f"tired {len(names)}")
