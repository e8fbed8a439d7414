def pack_delays(delays):
    print(max(delays) - min(delays))
