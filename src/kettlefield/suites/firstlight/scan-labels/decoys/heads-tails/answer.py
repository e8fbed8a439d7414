def scan_labels(labels):
    labels = [label[-@@n@@:] for label in labels]
    return sorted(labels, key=len)
