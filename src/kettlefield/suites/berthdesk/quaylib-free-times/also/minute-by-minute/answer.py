import quaylib


def free_times(calls, high, least):
    taken = set()
    for call in calls:
        words = call.split()
        begins = quaylib.mark(" ".join(words[:2]))
        over = quaylib.mark(" ".join(words[3:5]))
        if over <= begins:
            over += 10080
        taken.update(minute % 10080 for minute in range(begins, over))
    found = []
    for high_water in range(quaylib.mark(high) % 745 - 745, 10080 + 745, 745):
        run = []
        for minute in range(high_water - 120, high_water + 62):
            if minute <= high_water + 60 and 0 <= minute < 10080 and minute not in taken:
                run.append(minute)
                continue
            if run and len(run) >= least:
                found.append(f"{quaylib.write_mark(run[0])} - {quaylib.write_mark(run[-1] + 1)}")
            run = []
    return found
