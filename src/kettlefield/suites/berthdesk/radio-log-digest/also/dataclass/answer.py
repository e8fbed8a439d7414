import string
import sys
from dataclasses import dataclass, field


@dataclass
class Station:
    count: int = 0
    times: list = field(default_factory=list)
    channels: set = field(default_factory=set)


SIGN = set(string.ascii_uppercase + string.digits)
DIGITS = set(string.digits)


def good_time(text):
    return (
        len(text) == 5
        and text[2] == ":"
        and set(text[:2] + text[3:]) <= DIGITS
        and int(text[:2]) < 24
        and int(text[3:]) < 60
    )


def parse(line):
    parts = line.split(" ", 3)
    if len(parts) < 4:
        return None
    time, sign, channel, message = parts
    if not good_time(time) or not sign or not set(sign) <= SIGN:
        return None
    if not 1 <= len(channel) <= 2 or not set(channel) <= DIGITS or not message.strip():
        return None
    return time, sign, int(channel)


stations = {}
bad = 0
for raw in sys.stdin:
    line = raw.rstrip("\n")
    if line.strip() == "":
        continue
    parsed = parse(line)
    if parsed is None:
        bad += 1
        continue
    time, sign, channel = parsed
    station = stations.setdefault(sign, Station())
    station.count += 1
    station.times.append(time)
    station.channels.add(channel)
for sign, station in sorted(stations.items()):
    ordered = sorted(station.times)
    print(f"{sign} {station.count} {ordered[0]} {ordered[-1]} {','.join(map(str, sorted(station.channels, reverse=@@chan.down@@)))}")
print(f"@@word@@ {bad}")
