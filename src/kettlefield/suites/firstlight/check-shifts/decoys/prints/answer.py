def check_shifts(shifts):
    shifts = [shift for shift in shifts if shift <= @@n@@]
    shifts = sorted(shifts, reverse=True)
    print(sum(shifts))
