def log_calls(calls):
    names = sorted(row["crew"] for row in calls)
    names = [name[:@@n@@] for name in names]
    return [name for name in names if "m" in name]
