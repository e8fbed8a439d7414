def pack_flags(flags):
    flags = [flag for flag in flags if flag.startswith("p")]
    print([flag for flag in flags if "@@letter@@" in flag])
