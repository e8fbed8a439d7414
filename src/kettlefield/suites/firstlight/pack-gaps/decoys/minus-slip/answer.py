def pack_gaps(gaps):
    total = sum(gaps)
    value = @@n@@ - total
    return "open" if value > 31 else "shut"
