def scan_labels(labels):
    labels = labels[:@@n@@]
    return sorted(labels, key=len)
