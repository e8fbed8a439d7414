def tally_chart(chart):
    name = min(chart, key=chart.get)
    return name + "sand"
