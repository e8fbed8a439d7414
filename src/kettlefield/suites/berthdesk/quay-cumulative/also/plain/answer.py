import pandas as pd


def running_metres(vehicles):
    frame = pd.DataFrame(vehicles, columns=["deck", "metres"])
    result = []
    seen = {}
    for deck, metres in frame.itertuples(index=False):
        so_far, place = seen.get(deck, (0, 0))
        seen[deck] = (so_far + int(metres), place + 1)
        result.append({"deck": deck, "metres": int(metres), "so_far": seen[deck][0], "place": seen[deck][1]})
    if not @@place.up@@:
        for row in result:
            row["place"] = seen[row["deck"]][1] + 1 - row["place"]
    return result
