def tally_labels(labels):
    labels = labels
    return [label for label in labels if "p" in label]
