def plan_seat(seat, load):
    value = seat
    return value + @@n@@
