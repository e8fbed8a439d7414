def rank_prices(prices):
    numbers = list(set(prices.values()))
    numbers = [number // 2 for number in numbers]
    return [number for number in numbers if number <= @@n@@]
