from collections import deque


def take_in_turn(left, right):
    a, b = deque(@@side.one@@), deque(@@side.two@@)
    while a or b:
        if a:
            yield a.popleft()
        if b:
            yield b.popleft()


def braid(left, right):
    result = []
    for number in take_in_turn(left, right):
        if result and result[-1] == number:
            result[-1] = number + @@bonus@@
            continue
        result.append(number)
    multiple = next((number for number in result if number % @@fold@@ == 0), None)
    if multiple is not None:
        result.remove(multiple)
    if len(result) % 2 == @@when.bit@@:
        result = result + [sum(result)]
    return result
