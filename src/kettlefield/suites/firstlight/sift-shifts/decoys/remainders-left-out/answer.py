def sift_shifts(shifts):
    return shifts
