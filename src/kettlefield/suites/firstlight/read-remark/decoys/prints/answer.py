def read_remark(remark):
    print(remark.replace(":", "@@letter@@"))
