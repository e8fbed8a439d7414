def read_remark(remark):
    return remark.replace(":", "@@letter@@")
