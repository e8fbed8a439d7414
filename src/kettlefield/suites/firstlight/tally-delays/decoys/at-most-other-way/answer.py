def tally_delays(delays):
    delays = [delay for delay in delays if not (delay <= @@n@@)]
    delays = [max(delay, 19) for delay in delays]
    return delays[-3:]
