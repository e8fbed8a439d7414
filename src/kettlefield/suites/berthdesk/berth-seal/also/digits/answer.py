def seal(ticket):
    result = ticket * @@mult@@ + @@add@@
    if result % 2 == @@when.bit@@:
        result = result - int(str(ticket)[@@digit.at@@])
    backwards = 0
    while result:
        result, digit = divmod(result, 10)
        backwards = backwards * 10 + digit
    rest = backwards % 9973
    if rest < 1000:
        rest += 5000
    return rest
