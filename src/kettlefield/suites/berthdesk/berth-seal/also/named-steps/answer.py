def reverse_digits(number):
    text = ""
    for digit in str(number):
        text = digit + text
    return int(text)


def seal(ticket):
    result = @@mult@@ * ticket
    result = result + @@add@@
    if result % 2 == @@when.bit@@:
        last_digit = int(str(ticket)[@@digit.at@@])
        result = result - last_digit
    remainder = reverse_digits(result) % 9973
    if remainder < 1000:
        remainder = remainder + 5000
    return remainder
