def check_seat(seat, speed):
    value = seat + 3 * speed
    return value // 3
