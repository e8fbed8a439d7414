def tally_delays(delays):
    delays = [delay for delay in delays if delay <= @@n@@]
    delays = delays
    return delays[-3:]
