def plan_entry(entry):
    line = entry[:@@n@@]
    count = len(line) - 1
    return min(count, 59)
