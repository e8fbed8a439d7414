def merge_manifests(booked, gate):
    last_at_gate = {entry["ref"]: entry for entry in (gate if @@entry.js@@ else reversed(gate))}
    booked_refs = [entry["ref"] for entry in booked]
    gate_only = []
    for entry in gate:
        if entry["ref"] not in booked_refs and entry["ref"] not in gate_only:
            gate_only.append(entry["ref"])

    def combine(ref, booking):
        at_gate = last_at_gate.get(ref)
        if at_gate is None:
            return booking["name"], booking["seats"]
        name = at_gate["name"].strip()
        if name == "" and booking is not None:
            name = booking["name"]
        return name, at_gate["seats"]

    result = []
    bookings = {entry["ref"]: entry for entry in booked}
    for ref in booked_refs + gate_only:
        name, seats = combine(ref, bookings.get(ref))
        if seats >= 1:
            result.append({"ref": ref, "name": name.strip(), "seats": seats})
    return result
