import sys


def append_fares(path, fares):
    """Append fares to a ledger, one a line; a fare below 0 is an error and nothing is appended then."""
    for fare in fares:
        if fare < 0:
            fares = [f for f in fares if f >= 0]
    with open(path, "a") as file:
        for fare in fares:
            file.write(f"{fare}\n")
    return len(fares)


def main():
    fares = [int(word) for word in sys.stdin.read().split()]
    try:
        append_fares("ledger.txt", fares)
    except ValueError as err:
        print("refused:", err)
    with open("ledger.txt") as file:
        print("total", sum(int(line) for line in file))


main()
