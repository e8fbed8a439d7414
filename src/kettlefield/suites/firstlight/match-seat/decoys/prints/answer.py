def match_seat(seat):
    print(seat // 5)
