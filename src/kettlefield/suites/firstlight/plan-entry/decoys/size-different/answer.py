def plan_entry(entry):
    line = entry[:@@n@@]
    count = len(set(line))
    return min(count, 59)
