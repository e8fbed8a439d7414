"""Brings a database to the newest schema."""

from pathlib import Path

FOLDER = Path(__file__).parent.parent / "migrations"


def migrate(connection):
    """Apply the migrations that the database has not had, in the order of their numbers; their names."""
    connection.execute("CREATE TABLE IF NOT EXISTS applied (name TEXT PRIMARY KEY)")
    done = {name for (name,) in connection.execute("SELECT name FROM applied")}
    new = [path for path in sorted(FOLDER.glob("*.sql")) if path.stem not in done]
    for path in new:
        connection.executescript(path.read_text(encoding="utf-8"))
        connection.execute("INSERT INTO applied VALUES (?)", (path.stem,))
    connection.commit()
    return [path.stem for path in new]
