"""Finds the command that was asked for and runs it."""

import sys

from desk.commands import COMMANDS


def main(words):
    """Run one command; the exit status is 0, or 2 when the request makes no sense."""
    folder = "data"
    if words[:1] == ["--data"]:
        folder, words = words[1], words[2:]
    if not words or words[0] not in COMMANDS:
        print("commands: " + ", ".join(sorted(COMMANDS)), file=sys.stderr)
        return 2
    try:
        for line in COMMANDS[words[0]](folder, words[1:]):
            print(line)
    except ValueError as error:
        print(f"error: {error}", file=sys.stderr)
        return 2
    return 0
