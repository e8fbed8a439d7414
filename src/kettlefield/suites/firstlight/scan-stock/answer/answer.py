def scan_stock(stock):
    return list(stock.values())
