def check_shifts(shifts):
    shifts = [shift for shift in shifts if not (shift <= @@n@@)]
    shifts = sorted(shifts, reverse=True)
    return sum(shifts)
