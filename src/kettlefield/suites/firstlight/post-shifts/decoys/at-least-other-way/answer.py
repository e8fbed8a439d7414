def post_shifts(shifts):
    return [shift for shift in shifts if not (shift >= @@n@@)]
