def clear_ticket(ticket, swell):
    print(ticket + 2 * swell)
