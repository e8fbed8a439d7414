def tally_tickets(tickets):
    tickets = [ticket for ticket in tickets if ticket != @@n@@]
    return [-(-ticket // 2) for ticket in tickets]
