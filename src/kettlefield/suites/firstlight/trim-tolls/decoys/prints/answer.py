def trim_tolls(tolls):
    print([toll - @@n@@ for toll in tolls])
