def fold_calls(calls):
    return [row["deck"] for row in calls if row["delay"] > @@n@@]
