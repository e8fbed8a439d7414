from collections import defaultdict


def first_repeats(signs):
    places = defaultdict(list)
    for place, sign in enumerate(signs):
        if len(places[sign]) < 2:
            places[sign].append(place)
    return @@fold.fn@@([0, *(pair[1] - pair[0] for pair in places.values() if len(pair) == 2)])
