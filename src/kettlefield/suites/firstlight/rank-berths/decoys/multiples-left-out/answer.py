def rank_berths(berths):
    berths = berths
    return [berth * @@n@@ for berth in berths]
