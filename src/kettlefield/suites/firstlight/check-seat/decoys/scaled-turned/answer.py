def check_seat(seat, speed):
    value = speed + 3 * seat
    return value // 3
