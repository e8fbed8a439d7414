def scan_entry(entry):
    print(entry[-4:])
