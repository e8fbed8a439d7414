def merge_manifests(booked, gate):
    at_gate = {}
    for entry in gate:
        if @@entry.js@@ or entry["ref"] not in at_gate:
            at_gate[entry["ref"]] = entry
    result = []
    seen = set()

    def keep(ref, name, seats):
        if seats > 0:
            result.append({"ref": ref, "name": name.strip(), "seats": seats})

    for entry in booked:
        ref = entry["ref"]
        seen.add(ref)
        other = at_gate.get(ref)
        if other is None:
            keep(ref, entry["name"], entry["seats"])
        else:
            keep(ref, other["name"] if other["name"].strip() else entry["name"], other["seats"])
    for ref, entry in at_gate.items():
        if ref not in seen:
            keep(ref, entry["name"], entry["seats"])
    return result
