def seal(ticket):
    value = ticket * @@mult@@ + @@add@@
    if value % 2 == @@when.bit@@:
        value -= int(str(ticket)[@@digit.at@@])
    value %= 9973
    return value + 5000 if value < 1000 else value
