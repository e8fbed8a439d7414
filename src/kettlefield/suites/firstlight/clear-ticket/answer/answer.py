def clear_ticket(ticket, swell):
    return ticket + 2 * swell
