def pack_title(title):
    print(title + "north")
