"""Write levels of the little model as GGUF files.

Run: python tools/write_levels.py OUT_FOLDER [LEVEL ...] [--trained FOLDER].
"""

import argparse
import sys
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.demo.little.blocks import LEVELS
from kettlefield.demo.little.level_files import NAME, write_level


def main() -> int:
    """Write them and say how large they are."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("out", type=Path)
    parser.add_argument("levels", nargs="*", default=list(LEVELS), metavar="LEVEL", help=f"of {', '.join(LEVELS)}")
    parser.add_argument("--trained", type=Path, help="folder that training wrote; default: what ships with the tool")
    args = parser.parse_args()
    args.out.mkdir(parents=True, exist_ok=True)
    try:
        for level in args.levels:
            path = args.out / f"{NAME}-{level}.gguf"
            write_level(level, path, args.trained)
            print(f"{path}  {path.stat().st_size:,} bytes")
    except InputError as err:
        print(f"write_levels: {err}", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
