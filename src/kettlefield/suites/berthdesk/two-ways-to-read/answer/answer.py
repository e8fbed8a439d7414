def parse_line(line):
    """Name and cabin; None when the line is faulty."""
    name, _, cabin = (part.strip() for part in line.partition(","))
    return (name, int(cabin)) if name and cabin.isdigit() else None


def by_cabin(passengers):
    cabins = {}
    for name, cabin in passengers:
        cabins.setdefault(cabin, []).append(name)
    return {cabin: sorted(names) for cabin, names in sorted(cabins.items())}


def read_strictly(lines):
    passengers = []
    for number, line in enumerate(lines, 1):
        passenger = parse_line(line)
        if passenger is None:
            raise ValueError(f"line {number} is faulty")
        passengers.append(passenger)
    return by_cabin(passengers)


def read_leniently(lines):
    return by_cabin(passenger for passenger in map(parse_line, lines) if passenger is not None)


def read_manifest(lines, strict):
    """Passengers by cabin. Strict: a faulty line raises ValueError; else it is passed over."""
    return read_strictly(lines) if strict else read_leniently(lines)
