def seal(ticket):
    result = ticket * @@mult@@ + @@add@@
    if result & 1:
        result = result - int(str(ticket)[-1])
    backwards = 0
    while result:
        result, digit = divmod(result, 10)
        backwards = backwards * 10 + digit
    rest = backwards % 9973
    if rest < 1000:
        rest += 5000
    return rest
