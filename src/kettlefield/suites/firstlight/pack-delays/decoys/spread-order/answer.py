def pack_delays(delays):
    return delays[-1] - delays[0]
