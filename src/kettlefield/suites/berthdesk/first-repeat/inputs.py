import json
import random
import sys

size, seed = int(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
print(json.dumps([[rng.randrange(size * 2) for _ in range(size)]]))
