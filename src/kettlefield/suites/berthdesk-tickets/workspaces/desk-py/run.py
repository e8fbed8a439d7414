"""Entry point of the berth desk's command line."""

import sys

from desk.cli import main

if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
