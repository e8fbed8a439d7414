import json
import random
import sys

size, seed = int(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
berths = sorted(rng.sample(range(size * 10), size))
ships = [rng.randrange(size * 10) for _ in range(size)]
print(json.dumps([berths, ships]))
