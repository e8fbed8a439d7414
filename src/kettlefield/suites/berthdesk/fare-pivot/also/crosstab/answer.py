import pandas as pd


def fare_table(tickets):
    routes = sorted({ticket["route"] for ticket in tickets})
    if not routes:
        return [["route"]]
    frame = pd.DataFrame.from_records(tickets)
    grid = pd.crosstab(frame["route"], frame["class"], values=frame["pence"], aggfunc="@@cell.fn@@").fillna(0).astype(int)
    header = ["route"] + sorted(grid.columns, reverse=not @@classes.up@@)
    return [header] + [[route] + [int(grid.at[route, name]) for name in header[1:]] for route in routes]
