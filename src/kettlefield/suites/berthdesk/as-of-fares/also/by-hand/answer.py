import pandas as pd


def charged(prices, sales):
    by_route = {}
    for began, route, pence in sorted(prices):
        by_route.setdefault(route, []).append((began, pence))
    rows = []
    for day, route, number in sales:
        fitting = [pence for began, pence in by_route.get(route, []) if day - 90 <= began @@on.op@@ day]
        rows.append((route, number, number * fitting[-1] if fitting else 0, 0 if fitting else number))
    frame = pd.DataFrame(rows, columns=["route", "tickets", "pence", "unpriced"])
    if frame.empty:
        return []
    return frame.groupby("route", as_index=False).sum().sort_values("route").values.tolist()
