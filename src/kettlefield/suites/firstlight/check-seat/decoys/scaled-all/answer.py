def check_seat(seat, speed):
    value = (seat + speed) * 3
    return value // 3
