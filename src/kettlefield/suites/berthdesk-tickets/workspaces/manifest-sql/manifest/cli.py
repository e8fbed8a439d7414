"""The commands."""

import sqlite3
import sys

from manifest import passengers
from manifest.migrating import migrate


def main(words):
    """Run one command on a database."""
    if len(words) < 2:
        print("DATABASE COMMAND ...", file=sys.stderr)
        return 2
    connection = sqlite3.connect(words[0])
    command, rest = words[1], words[2:]
    try:
        for line in run(connection, command, rest):
            print(line)
        connection.commit()
    except ValueError as error:
        print(f"error: {error}", file=sys.stderr)
        return 2
    finally:
        connection.close()
    return 0


def run(connection, command, rest):
    """The lines that a command prints."""
    if command == "migrate" and not rest:
        return [f"applied {name}" for name in migrate(connection)] or ["nothing to do"]
    if command == "board" and len(rest) == 2:
        passengers.board(connection, rest[0], rest[1])
        return [f"{rest[1]} boards {rest[0]}"]
    if command == "list" and len(rest) == 1:
        return [name for name in passengers.of_sailing(connection, rest[0])]
    if command == "count" and not rest:
        return [f"{sailing}: {number}" for sailing, number in passengers.counts(connection)]
    raise ValueError(f"no such command: {' '.join([command, *rest])}")
