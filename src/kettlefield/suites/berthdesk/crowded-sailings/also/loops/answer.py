import pandas as pd


def crowded(counts, share):
    result = []
    for route, frame in pd.DataFrame(counts, columns=["day", "route", "passengers"]).groupby("route"):
        rows = sorted(zip(frame["day"], frame["passengers"]))
        run = None
        for day, passengers in rows:
            window = pd.Series([n for other, n in rows if day - 6 <= other <= day])
            if len(window) >= 3 and passengers @@edge.op@@ share * window.median():
                if run is None:
                    run = [route, int(day), int(day), 0]
                    result.append(run)
                run[2] = int(day)
                run[3] += int(passengers)
            else:
                run = None
    return sorted(result, key=lambda run: (run[1], run[0]))
