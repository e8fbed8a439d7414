def pack_delays(delays):
    return max(delays)
