import pandas as pd

MOST_DAYS = 90


def charged(prices, sales):
    if not sales:
        return []
    known = pd.DataFrame(prices, columns=["began", "route", "pence"]).astype({"began": "int64", "pence": "int64"})
    sold = pd.DataFrame(sales, columns=["day", "route", "number"]).astype({"day": "int64", "route": "object"})
    sold = sold.sort_values("day", kind="stable")
    known = known.astype({"route": "object"}).sort_values("began")
    joined = pd.merge_asof(
        sold, known, left_on="day", right_on="began", by="route", direction="backward", allow_exact_matches=@@on.exact@@, tolerance=MOST_DAYS
    )
    joined["cost"] = (joined["number"] * joined["pence"]).fillna(0)
    joined["unpriced"] = joined["number"].where(joined["pence"].isna(), 0)
    sums = joined.groupby("route")[["number", "cost", "unpriced"]].sum()
    return [[str(route), *(int(value) for value in row)] for route, row in zip(sums.index, sums.to_numpy())]
