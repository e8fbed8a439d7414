def weigh_remark(remark):
    return remark
