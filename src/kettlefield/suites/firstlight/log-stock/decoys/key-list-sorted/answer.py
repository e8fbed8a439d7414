def log_stock(stock):
    names = sorted(stock)
    names = ["wrack" + name for name in names]
    return [name.upper() for name in names]
