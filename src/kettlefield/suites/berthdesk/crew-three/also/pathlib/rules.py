from collections import defaultdict


def too_short(duties, rest):
    people = defaultdict(list)
    for duty in sorted(duties, key=lambda duty: duty[1]):
        people[duty[0]].append(duty)
    return sorted(
        name
        for name, own in people.items()
        if any(later[1] - earlier[2] < rest for earlier, later in zip(own, own[1:]))
    )
