def fold_calls(calls):
    print([row["deck"] for row in calls if row["delay"] > @@n@@])
