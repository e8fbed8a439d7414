def match_prices(prices):
    value = prices.get("marl", @@n@@)
    value = value * 25
    return value % 2
