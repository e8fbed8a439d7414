def trim_tolls(tolls):
    return [toll - @@n@@ for toll in tolls]
