def check_guests(guests):
    return [guest.upper() for guest in guests]
