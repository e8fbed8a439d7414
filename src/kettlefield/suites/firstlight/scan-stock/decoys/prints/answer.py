def scan_stock(stock):
    print(list(stock.values()))
