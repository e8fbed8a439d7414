def check_guests(guests):
    print([guest.upper() for guest in guests])
