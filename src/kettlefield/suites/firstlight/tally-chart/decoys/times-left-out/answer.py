def tally_chart(chart):
    numbers = list(chart.values())
    numbers = numbers
    return max(numbers)
