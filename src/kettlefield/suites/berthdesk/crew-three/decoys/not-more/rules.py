def too_short(duties, rest):
    by_name = {}
    for name, begin, end in duties:
        by_name.setdefault(name, []).append((begin, end))
    tired = set()
    for name, spans in by_name.items():
        spans.sort()
        for (_, end), (begin, _) in zip(spans, spans[1:]):
            if begin - end <= rest:
                tired.add(name)
    return sorted(tired)
