import pandas as pd


def hours_table(duties):
    if len(duties) == 0:
        return dict(days=[], rows={}, ranks={})
    minutes = pd.DataFrame(
        [(name, minute // 1440) for name, first, last in duties for minute in range(first, last)],
        columns=["name", "day"],
    )
    table = pd.crosstab(minutes["name"], minutes["day"])
    days = [int(day) for day in range(min(table.columns), max(table.columns) + 1)]
    names = sorted(table.index)
    rows = {name: [int(table.loc[name].get(day, 0)) for day in days] for name in names}
    totals = {name: sum(row) for name, row in rows.items()}
    ranks = {name: 1 + sum(other @@rank.op@@ totals[name] for other in @@tie.of@@(totals.values())) for name in names}
    return {"days": days, "rows": rows, "ranks": ranks}
