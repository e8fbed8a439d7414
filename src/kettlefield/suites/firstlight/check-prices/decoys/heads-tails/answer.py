def check_prices(prices):
    names = list(prices)
    return [name[-@@n@@:] for name in names]
