def log_title(title):
    line = title.upper()
    return line + "@@word@@"
