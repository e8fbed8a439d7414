def log_title(title):
    line = title.title()
    return line + "@@word@@"
