import pandas as pd


def hourly(readings):
    if not readings:
        return []
    frame = pd.DataFrame(readings, columns=["minute", "value"])
    means = frame.groupby(frame["minute"] // 60)["value"].mean()
    means = means.reindex(range(means.index.min(), means.index.max() + 1)).ffill()
    return [None if pd.isna(value) else round(float(value), 2) for value in means]
