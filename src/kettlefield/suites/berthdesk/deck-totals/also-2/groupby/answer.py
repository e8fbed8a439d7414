from itertools import groupby
from operator import itemgetter


def load_plan(vehicles):
    rows = []
    for deck, group in groupby(sorted(vehicles, key=itemgetter(0)), key=itemgetter(0)):
        lengths = [metres for _, metres in group]
        rows.append([deck, sum(lengths), len(lengths)])
    return rows


def fullest(vehicles):
    best = None
    for row in load_plan(vehicles):
        if best is None or row[1] * @@room.n@@ @@tie.op@@ best[1] * @@room.n@@:
            best = row
    return None if best is None else best[0]
