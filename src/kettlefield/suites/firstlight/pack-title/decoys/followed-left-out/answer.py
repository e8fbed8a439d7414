def pack_title(title):
    return title
