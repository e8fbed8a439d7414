def plan_entry(entry):
    line = entry[:@@n@@]
    count = len(line)
    return min(count, 59)
