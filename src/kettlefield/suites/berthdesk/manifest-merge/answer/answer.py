def merge_manifests(booked, gate):
    latest = {}
    for entry in gate:
        if @@entry.js@@ or entry["ref"] not in latest:
            latest[entry["ref"]] = entry
    merged = {}
    for entry in booked:
        merged[entry["ref"]] = dict(entry)
    for ref, entry in latest.items():
        name = entry["name"]
        if not name.strip() and ref in merged:
            name = merged[ref]["name"]
        merged[ref] = {"ref": ref, "name": name, "seats": entry["seats"]}
    return [
        {"ref": entry["ref"], "name": entry["name"].strip(), "seats": entry["seats"]}
        for entry in merged.values()
        if entry["seats"] > 0
    ]
