def sift_shifts(shifts):
    print([shift % @@n@@ for shift in shifts])
