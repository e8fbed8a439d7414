def log_stock(stock):
    names = list(stock)
    names = ["wrack" + name for name in names]
    return [name.upper() for name in names]
