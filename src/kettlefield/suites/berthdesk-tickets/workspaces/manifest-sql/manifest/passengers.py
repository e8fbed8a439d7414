"""Passengers of the sailings."""


def board(connection, sailing, name):
    """Add a passenger to a sailing."""
    if not name.strip():
        raise ValueError("a passenger needs a name")
    connection.execute("INSERT INTO passenger (sailing, name) VALUES (?, ?)", (sailing, name))


def of_sailing(connection, sailing):
    """The names in the order of boarding."""
    rows = connection.execute("SELECT name FROM passenger WHERE sailing = ? ORDER BY id", (sailing,))
    return [name for (name,) in rows]


def counts(connection):
    """Pairs of sailing and number, by sailing."""
    return list(connection.execute("SELECT sailing, COUNT(*) FROM passenger GROUP BY sailing ORDER BY sailing"))
