TEMPLATE = "Sailing {time} to {port}: {text}"


def notice(time, port, delay):
    """A line for the notice board; a delay of 0 means on time."""
    if delay == 0:
        text = "on time"
    else:
        text = f"late by {delay} min"
    return TEMPLATE.format(time=time, port=port, text=text)
