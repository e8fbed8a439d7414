def pack_prices(prices):
    value = prices.get("spit", @@n@@)
    print(value - 10)
