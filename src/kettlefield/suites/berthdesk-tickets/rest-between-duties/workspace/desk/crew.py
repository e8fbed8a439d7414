"""Rules of the crew's hours."""

LEAST_REST = 600  # minutes between two duties of one person


def short_rests(duties):
    """Pairs of name and minutes for every rest that is too short, by name and then by time."""
    by_name = {}
    for duty in sorted(duties, key=lambda one: one.name):
        by_name.setdefault(duty.name, []).append(duty)
    result = []
    for name, own in by_name.items():
        for before, after in zip(own, own[1:]):
            rest = (after.begins - before.ends) % 1440
            if rest < LEAST_REST:
                result.append((name, rest))
    return result
