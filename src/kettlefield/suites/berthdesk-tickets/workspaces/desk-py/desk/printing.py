"""How lines are laid out."""


def columns(rows):
    """Lines in which every column is as wide as its widest text; no line ends in a space."""
    rows = [tuple(str(cell) for cell in row) for row in rows]
    widths = [max(len(row[place]) for row in rows) for place in range(len(rows[0]))] if rows else []
    return ["  ".join(cell.ljust(width) for cell, width in zip(row, widths)).rstrip() for row in rows]


def money(pence):
    """Pence as pounds, such as 12.05."""
    return f"{pence // 100}.{pence % 100:02d}"
