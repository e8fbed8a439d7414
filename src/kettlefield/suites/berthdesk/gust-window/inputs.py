import random
import sys

size, seed = int(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
print(max(1, size // 4))
print(*(rng.randrange(1000) for _ in range(size)))
