import sys

stations = {}
bad = 0
for raw in sys.stdin:
    line = raw.rstrip("\n")
    if line.strip() == "":
        continue
    parts = line.split(" ", 3)
    good = len(parts) == 4
    if good:
        time, sign, channel, message = parts
        good = len(time) == 5 and time[2] == ":" and (time[:2] + time[3:]).isascii() and (time[:2] + time[3:]).isdigit()
        good = good and int(time[:2]) < 24 and int(time[3:]) < 60
        good = good and sign != "" and all(c in "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789" for c in sign)
        good = good and 1 <= len(channel) <= 2 and channel.isascii() and channel.isdigit()
        good = good and message.strip() != ""
    if not good:
        bad += 1
        continue
    entry = stations.setdefault(sign, {"n": 0, "first": time, "last": time, "ch": set()})
    entry["n"] += 1
    entry["first"] = min(entry["first"], time)
    entry["last"] = max(entry["last"], time)
    entry["ch"].add(int(channel))
for sign, e in sorted(stations.items()):
    print(sign, e["n"], e["first"], e["last"], ",".join(map(str, sorted(e["ch"], reverse=@@chan.down@@))))
print(f"@@word@@ {bad}")
