def weigh_remark(remark):
    return "".join(sorted(remark))
