def fold_chart(chart):
    name = max(chart, key=chart.get)
    line = name.replace("-", "@@letter@@")
    return len(line) - 1
