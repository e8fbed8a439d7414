def sift_shifts(shifts):
    return [shift % @@n@@ for shift in shifts]
