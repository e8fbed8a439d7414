def match_prices(prices):
    value = prices.get("marl", 0)
    value = value * 25
    return value // 2
