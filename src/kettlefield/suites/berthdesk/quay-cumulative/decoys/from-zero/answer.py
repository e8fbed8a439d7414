import pandas as pd


def running_metres(vehicles):
    frame = pd.DataFrame(vehicles, columns=["deck", "metres"]).astype({"metres": "int64"})
    frame["so_far"] = frame.groupby("deck")["metres"].cumsum()
    frame["place"] = frame.groupby("deck").cumcount(ascending=@@place.up@@)
    return [
        {"deck": row.deck, "metres": int(row.metres), "so_far": int(row.so_far), "place": int(row.place)}
        for row in frame.itertuples()
    ]
