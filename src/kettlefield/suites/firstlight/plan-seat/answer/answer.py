def plan_seat(seat, load):
    value = seat + load
    return value + @@n@@
