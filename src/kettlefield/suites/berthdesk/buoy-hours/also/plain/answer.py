import pandas as pd


def hourly(readings):
    frame = pd.DataFrame(readings, columns=["minute", "value"])
    if frame.empty:
        return []
    frame["hour"] = frame["minute"].floordiv(60)
    means = frame.groupby("hour")["value"].mean().to_dict()
    result, last, missing = [], None, 0
    for hour in range(min(means), max(means) + 1):
        if hour in means:
            last, missing = means[hour], 0
            result.append(round(float(last), 2))
        else:
            missing += 1
            result.append(round(float(last), 2) if missing <= 2 else None)
    return result
