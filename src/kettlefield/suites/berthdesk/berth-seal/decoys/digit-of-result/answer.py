def seal(ticket):
    value = ticket * @@mult@@ + @@add@@
    if value % 2 == @@when.bit@@:
        value -= value % 10
    value = int(str(value)[::-1])
    value %= 9973
    return value + 5000 if value < 1000 else value
