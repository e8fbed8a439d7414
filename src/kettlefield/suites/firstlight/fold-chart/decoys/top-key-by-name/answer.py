def fold_chart(chart):
    name = max(chart)
    line = name.replace("-", "@@letter@@")
    return len(line)
