def check_prices(prices):
    names = sorted(prices)
    return [name[:@@n@@] for name in names]
