import json
import sys
from pathlib import Path

import reading
import rules

REST = @@rest@@

try:
    roster = reading.read_roster(Path("roster.json"))
except reading.RosterError as problem:
    print("roster.json:", problem)
    sys.exit(2)

names = rules.too_short(roster, REST)
Path("findings.json").write_text(json.dumps({"tired": names}))
print(f"tired {len(names)}")
