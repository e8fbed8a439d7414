def log_ticket(ticket, speed):
    value = min(ticket, speed)
    return value - @@n@@
