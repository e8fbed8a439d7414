def trim_shift(shift, fare):
    return shift * shift
