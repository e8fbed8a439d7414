def log_title(title):
    line = title
    return line + "@@word@@"
