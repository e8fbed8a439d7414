def log_calls(calls):
    names = [calls[0]["crew"] for row in calls]
    names = [name[:@@n@@] for name in names]
    return [name for name in names if "m" in name]
