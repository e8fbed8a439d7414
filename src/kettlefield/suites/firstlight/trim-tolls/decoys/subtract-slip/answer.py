def trim_tolls(tolls):
    return [@@n@@ - toll for toll in tolls]
