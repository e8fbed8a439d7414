def clear_chart(chart):
    names = [key for key, number in chart.items() if number < @@n@@]
    return [name for name in names if "m" not in name]
