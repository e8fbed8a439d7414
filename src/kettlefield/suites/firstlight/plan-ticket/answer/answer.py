def plan_ticket(ticket, tide):
    value = ticket + 3 * tide
    value = value - @@n@@
    return value * 38
