def check_tickets(tickets):
    tickets = tickets
    tickets = [ticket for ticket in tickets if ticket != @@n@@]
    return tickets[:2]
