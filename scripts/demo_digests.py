"""Write src/kettlefield/demo/digests.json: the SHA-256 of each made-up weights file, read to its end.

python scripts/demo_digests.py
"""

import hashlib
import json
import tempfile
from pathlib import Path

from kettlefield.demo.simulated_models import DIGESTS, LEVEL_TYPES, MODELS, hole_key, write_weights
from kettlefield.weights.gguf_header import read_gguf


def main() -> None:
    """Write every model at every level, and read it."""
    digests = {}
    with tempfile.TemporaryDirectory() as folder:
        for name, model in MODELS.items():
            for level in LEVEL_TYPES:
                path = Path(folder) / f"{name}-{level}.gguf"
                write_weights(model, level, path)
                with path.open("rb") as file:
                    key = hole_key(path, read_gguf(path).data_offset_bytes)
                    digests[key] = hashlib.file_digest(file, "sha256").hexdigest()
    DIGESTS.write_text(json.dumps(digests, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
