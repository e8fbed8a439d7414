def clear_ticket(ticket, swell):
    return (ticket + swell) * 2
