import pandas as pd


def running_metres(vehicles):
    if len(vehicles) == 0:
        return []
    df = pd.DataFrame([dict(v) for v in vehicles])
    df["so_far"] = df.groupby("deck", sort=False)["metres"].transform("cumsum")
    df["place"] = df.groupby("deck", sort=False)["metres"].transform(lambda column: range(1, len(column) + 1)[::@@place.step@@])
    records = df[["deck", "metres", "so_far", "place"]].to_dict("records")
    return [{key: value if key == "deck" else int(value) for key, value in record.items()} for record in records]
