def match_labels(labels):
    return sorted(labels)
