def check_tickets(tickets):
    tickets = [ticket // 2 for ticket in tickets]
    tickets = [ticket for ticket in tickets if ticket != @@n@@]
    return tickets[:2]
