def pack_gaps(gaps):
    total = len(gaps)
    value = total - @@n@@
    return "open" if value > 31 else "shut"
