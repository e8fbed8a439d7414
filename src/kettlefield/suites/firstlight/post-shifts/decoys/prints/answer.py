def post_shifts(shifts):
    print([shift for shift in shifts if shift >= @@n@@])
