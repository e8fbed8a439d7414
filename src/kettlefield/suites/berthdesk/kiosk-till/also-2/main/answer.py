from sys import stdin


def main():
    rows = [line.split() for line in stdin.read().splitlines() if line.strip()]
    for row in rows:
        print(" ".join(row))
    for name in sorted(set(name for name, _ in rows)@@sort.rows@@):
        print("@@each@@", name, sum(int(pence) for other, pence in rows if other == name))
    print("@@all@@", sum(int(pence) for _, pence in rows))


if __name__ == "__main__":
    main()
