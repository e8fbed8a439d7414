def weigh_remark(remark):
    print(remark[::-1])
