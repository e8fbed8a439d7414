def plan_ticket(ticket, tide):
    value = tide + 3 * ticket
    value = value - @@n@@
    return value * 38
