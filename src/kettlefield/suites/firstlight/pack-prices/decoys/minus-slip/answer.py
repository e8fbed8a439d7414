def pack_prices(prices):
    value = prices.get("spit", @@n@@)
    return 10 - value
