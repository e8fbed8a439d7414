"""``python -m kettlefield`` is the same program as ``kettlefield``."""

from kettlefield.cli.main import run

if __name__ == "__main__":
    run()
