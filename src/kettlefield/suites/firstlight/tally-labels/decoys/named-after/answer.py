def tally_labels(labels):
    labels = [label + "@@word@@" for label in labels]
    return [label for label in labels if "p" in label]
