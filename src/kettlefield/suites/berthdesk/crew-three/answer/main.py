import json
import sys

from reading import RosterError, read_roster
from rules import too_short


def main():
    try:
        duties = read_roster("roster.json")
    except RosterError as err:
        print(f"roster.json: {err}")
        return 2
    tired = too_short(duties, @@rest@@)
    with open("findings.json", "w") as file:
        json.dump({"tired": tired}, file)
    print("tired", len(tired))
    return 0


sys.exit(main())
