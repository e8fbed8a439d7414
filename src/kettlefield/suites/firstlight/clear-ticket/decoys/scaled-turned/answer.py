def clear_ticket(ticket, swell):
    return swell + 2 * ticket
