def scan_chart(chart):
    return [key for key, number in chart.items() if number < @@n@@]
