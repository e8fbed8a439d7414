def log_ticket(ticket, speed):
    value = max(ticket, speed)
    return @@n@@ - value
