def pack_flags(flags):
    flags = [flag for flag in flags if flag.startswith("p")]
    return [flag for flag in flags if "@@letter@@" not in flag]
