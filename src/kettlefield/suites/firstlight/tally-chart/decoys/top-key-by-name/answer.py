def tally_chart(chart):
    name = max(chart)
    return name + "sand"
