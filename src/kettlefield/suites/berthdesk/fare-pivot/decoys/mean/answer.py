import pandas as pd


def fare_table(tickets):
    if not tickets:
        return [["route"]]
    frame = pd.DataFrame(tickets)
    table = frame.pivot_table(index="route", columns="class", values="pence", fill_value=0)
    table = table.sort_index().sort_index(axis=1, ascending=@@classes.up@@)
    rows = [["route", *table.columns]]
    for route, values in table.iterrows():
        rows.append([route, *(int(value) for value in values)])
    return rows
