def seal(ticket):
    value = ticket * @@mult@@ + @@add@@
    if value % 2 == @@when.bit@@:
        value -= int(str(ticket)[@@digit.at@@])
    value = int(str(value)[::-1])
    value %= 9973
    return value + 5000
