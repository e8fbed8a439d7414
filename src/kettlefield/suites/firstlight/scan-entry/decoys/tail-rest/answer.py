def scan_entry(entry):
    return entry[:-4]
