def rank_berths(berths):
    berths = [berth for berth in berths if berth % 3]
    return [berth * @@n@@ for berth in berths]
