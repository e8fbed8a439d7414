def seal(ticket):
    value = ticket * @@mult@@ + @@add@@
    if value % 2 == 1:
        value -= ticket % 10
    value %= 9973
    return value + 5000 if value < 1000 else value
