import re
import sys

LINE = re.compile(r"([01][0-9]|2[0-3]):([0-5][0-9]) ([A-Z0-9]+) ([0-9]{1,2}) (.*\S.*)")


def main():
    @@word@@ = 0
    stations = {}
    for line in sys.stdin.read().split("\n"):
        if not line.strip():
            continue
        match = LINE.fullmatch(line)
        if match is None:
            @@word@@ += 1
            continue
        times, channels = stations.setdefault(match[3], ([], set()))
        times.append(f"{match[1]}:{match[2]}")
        channels.add(int(match[4]))
    for sign in sorted(stations):
        times, channels = stations[sign]
        listed = ",".join(str(channel) for channel in sorted(channels, reverse=@@chan.down@@))
        print(sign, len(times), min(times), max(times), listed)
    print("@@word@@", @@word@@)


main()
