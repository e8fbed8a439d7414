def weigh_remark(remark):
    return remark[::-1]
