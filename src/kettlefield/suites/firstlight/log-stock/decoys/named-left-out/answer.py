def log_stock(stock):
    names = list(stock)
    names = names
    return [name.upper() for name in names]
