def trim_tolls(tolls):
    return tolls
