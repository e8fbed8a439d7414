import pandas as pd

DAY = 1440


def hours_table(duties):
    pieces = [
        (name, day, min(last, (day + 1) * DAY) - max(first, day * DAY))
        for name, first, last in duties
        for day in range(first // DAY, (last - 1) // DAY + 1)
    ]
    if not pieces:
        return {"days": [], "rows": {}, "ranks": {}}
    frame = pd.DataFrame(pieces, columns=["name", "day", "minutes"])
    days = range(int(frame["day"].min()), int(frame["day"].max()) + 1)
    wide = frame.pivot_table(index="name", columns="day", values="minutes", aggfunc="sum", fill_value=0)
    wide = wide.reindex(columns=days, fill_value=0).sort_index()
    ranks = wide.sum(axis=1).rank(method="@@tie.method@@", ascending=@@rank.up@@)
    return {
        "days": list(days),
        "rows": {name: [int(value) for value in row] for name, row in zip(wide.index, wide.to_numpy())},
        "ranks": {name: int(rank) for name, rank in ranks.items()},
    }
