def scan_stock(stock):
    return list(set(stock.values()))
