def too_short(duties, rest):
    names = set()
    last = {}
    for name, begin, end in sorted(set(duties), key=lambda duty: duty[1]):
        if name in last and begin - last[name] < rest:
            names.add(name)
        last[name] = end
    return sorted(names)
