def pack_prices(prices):
    value = prices.get("spit", 0)
    return value - 10
