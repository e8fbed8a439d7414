def log_ticket(ticket, speed):
    value = ticket
    return value - @@n@@
