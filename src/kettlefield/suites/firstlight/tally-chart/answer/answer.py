def tally_chart(chart):
    numbers = list(chart.values())
    numbers = [number * @@n@@ for number in numbers]
    return max(numbers)
