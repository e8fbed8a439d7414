import pandas as pd


def crowded(counts, share):
    if not counts:
        return []
    frame = pd.DataFrame(counts, columns=["day", "route", "passengers"]).sort_values(["route", "day"])
    frame["when"] = pd.to_datetime(frame["day"], unit="D")
    usual = (
        frame.set_index("when").groupby("route")["passengers"].rolling("7D", min_periods=3).median().to_numpy()
    )
    frame["crowded"] = frame["passengers"].to_numpy() @@edge.op@@ share * usual
    starts = (frame["crowded"] != frame["crowded"].shift()) | (frame["route"] != frame["route"].shift())
    frame["run"] = starts.cumsum()
    runs = frame[frame["crowded"]].groupby("run").agg(
        route=("route", "first"), first=("day", "first"), last=("day", "last"), passengers=("passengers", "sum")
    )
    runs = runs.sort_values(["first", "route"])
    return [[str(r.route), int(r.first), int(r.last), int(r.passengers)] for r in runs.itertuples()]
