def plan_ticket(ticket, tide):
    value = (ticket + tide) * 3
    value = value - @@n@@
    return value * 38
