def trim_shift(shift, fare):
    print(shift * fare)
