def log_title(title):
    line = title.upper()
    return "@@word@@" + line
