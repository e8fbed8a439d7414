import pandas as pd


def fare_table(tickets):
    frame = pd.DataFrame(tickets, columns=["route", "class", "pence"])
    classes = sorted(frame["class"].unique(), reverse=not @@classes.up@@)
    sums = frame.groupby(["route", "class"])["pence"].@@cell.fn@@()
    table = [["route", *classes]]
    for route in sorted(frame["route"].unique()):
        table.append([route] + [int(sums.get((route, name), 0)) for name in classes])
    return table
