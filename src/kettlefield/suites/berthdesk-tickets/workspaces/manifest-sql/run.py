"""Entry point of the manifest's command line."""

import sys

from manifest.cli import main

if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
