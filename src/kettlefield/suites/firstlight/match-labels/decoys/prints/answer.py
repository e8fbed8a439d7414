def match_labels(labels):
    print(sorted(labels))
