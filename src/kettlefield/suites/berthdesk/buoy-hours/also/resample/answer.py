import pandas as pd


def hourly(readings):
    series = pd.Series(
        [value for _, value in readings],
        index=[minute // 60 for minute, _ in readings],
        dtype="float64",
    )
    if series.empty:
        return []
    by_hour = series.groupby(level=0).mean()
    out = []
    last, since = None, 0
    for hour in range(int(by_hour.index[0]), int(by_hour.index[-1]) + 1):
        if hour in by_hour.index:
            last, since = float(by_hour[hour]), 0
        else:
            since += 1
        out.append(round(last, 2) if since <= 2 else None)
    return out
