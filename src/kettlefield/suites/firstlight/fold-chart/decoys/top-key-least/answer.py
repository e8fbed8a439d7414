def fold_chart(chart):
    name = min(chart, key=chart.get)
    line = name.replace("-", "@@letter@@")
    return len(line)
