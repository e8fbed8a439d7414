def check_gap(gap):
    print(min(gap, @@n@@))
