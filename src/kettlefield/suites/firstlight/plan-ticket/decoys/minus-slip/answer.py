def plan_ticket(ticket, tide):
    value = ticket + 3 * tide
    value = @@n@@ - value
    return value * 38
