def scan_stock(stock):
    return sorted(stock.values())
