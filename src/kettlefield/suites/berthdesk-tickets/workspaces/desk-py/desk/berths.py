"""Which vessel lies where."""

LENGTHS = {"North": 70, "South": 55, "Slip": 30}  # metres
TURN = 40  # minutes for which a vessel holds its berth before it leaves


def assign(sailings):
    """Pairs of number and berth in the order of departure; "waits" where its berth is taken or too short.

    A berth is taken while another vessel holds it: from TURN minutes before that one leaves until it leaves.
    """
    taken = {}  # berth -> when the last vessel there leaves
    result = []
    for sailing in sorted(sailings, key=lambda one: (one.leaves, one.number)):
        arrives = sailing.leaves - TURN
        free = taken.get(sailing.berth, 0) <= arrives
        if sailing.berth not in LENGTHS or sailing.length > LENGTHS[sailing.berth] or not free:
            result.append((sailing.number, "waits"))
            continue
        taken[sailing.berth] = sailing.leaves
        result.append((sailing.number, sailing.berth))
    return result
