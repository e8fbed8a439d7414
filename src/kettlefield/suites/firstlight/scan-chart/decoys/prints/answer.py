def scan_chart(chart):
    print([key for key, number in chart.items() if number > @@n@@])
