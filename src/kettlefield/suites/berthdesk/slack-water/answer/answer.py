def slack_minutes(speeds, limit):
    """How many minutes of slack water a row of readings holds.

    speeds -- one reading of the stream a minute, whole numbers in tenths of a knot, negative on the ebb
    limit -- a reading counts as slack when its size without sign @@edge.says@@

    A single slack reading between two that are not slack does not count, nor does one alone at either end:
    only runs of at least two slack readings count, with all their minutes.
    """
    total = run = 0
    for speed in [*speeds, limit + 1]:
        if abs(speed) @@edge.op@@ limit:
            run += 1
        else:
            if run >= 2:
                total += run
            run = 0
    return total
