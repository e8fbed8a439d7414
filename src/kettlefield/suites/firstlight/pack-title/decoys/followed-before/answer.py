def pack_title(title):
    return "north" + title
