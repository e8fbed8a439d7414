def parse_line(line):
    parts = line.split(",", 1)
    if len(parts) == 2 and parts[0].strip() and parts[1].strip().isdigit():
        return parts[0].strip(), int(parts[1])
    return None


def collect(pairs):
    result = {}
    for cabin in sorted({cabin for _, cabin in pairs}):
        result[cabin] = sorted(name for name, other in pairs if other == cabin)
    return result


def read_leniently(lines):
    return collect([pair for line in lines if (pair := parse_line(line))])


def read_strictly(lines):
    pairs = [parse_line(line) for line in lines]
    if None in pairs:
        raise ValueError("line %d is faulty" % (pairs.index(None) + 1))
    return collect(pairs)


def read_manifest(lines, strict):
    if strict:
        return read_strictly(lines)
    return read_leniently(lines)
