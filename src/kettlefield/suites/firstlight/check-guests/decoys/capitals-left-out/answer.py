def check_guests(guests):
    return guests
