def pack_prices(prices):
    value = prices.get("spit", @@n@@)
    return value - 10
