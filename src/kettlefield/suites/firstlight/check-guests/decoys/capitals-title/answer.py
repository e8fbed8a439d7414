def check_guests(guests):
    return [guest.title() for guest in guests]
