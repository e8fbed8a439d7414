def tally_labels(labels):
    labels = ["@@word@@" + label for label in labels]
    return [label for label in labels if "p" not in label]
