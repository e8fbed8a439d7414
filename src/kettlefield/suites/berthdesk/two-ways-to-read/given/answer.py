
def read_manifest(lines, strict):
    """Passengers by cabin. Strict: a faulty line raises ValueError; else it is passed over."""
    cabins = {}
    for number, line in enumerate(lines, 1):
        if strict:
            name, comma, cabin = line.partition(",")
            if not comma or not name.strip() or not cabin.strip().isdigit():
                raise ValueError(f"line {number} is faulty")
            cabins.setdefault(int(cabin), []).append(name.strip())
        else:
            name, comma, cabin = line.partition(",")
            if not comma or not name.strip() or not cabin.strip().isdigit():
                continue
            cabins.setdefault(int(cabin), []).append(name.strip())
    return {cabin: sorted(names) for cabin, names in sorted(cabins.items())}
