def tally_chart(chart):
    name = max(chart, key=chart.get)
    return "sand" + name
