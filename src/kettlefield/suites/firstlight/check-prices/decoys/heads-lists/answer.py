def check_prices(prices):
    names = list(prices)
    return names[:@@n@@]
