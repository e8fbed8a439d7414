import sys

stations = {}
for line in sys.stdin:
    time, sign, channel, message = line.rstrip("\n").split(" ", 3)
    times, channels = stations.setdefault(sign, ([], set()))
    times.append(time)
    channels.add(int(channel))
for sign in sorted(stations):
    times, channels = stations[sign]
    print(sign, len(times), min(times), max(times), ",".join(map(str, sorted(channels, reverse=@@chan.down@@))))
print("@@word@@ 0")
