def match_labels(labels):
    return sorted(labels, reverse=True)
