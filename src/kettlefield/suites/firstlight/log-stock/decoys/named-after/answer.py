def log_stock(stock):
    names = list(stock)
    names = [name + "wrack" for name in names]
    return [name.upper() for name in names]
