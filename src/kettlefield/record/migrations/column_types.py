"""Types of the columns that migrations add, on either engine; as the schema has them."""

import sqlalchemy as sa

from kettlefield.record import schema

ID = sa.BigInteger().with_variant(sa.Integer, "sqlite")
BYTES = sa.BigInteger()
TEXT = schema.String()


def id_column() -> sa.Column[int]:
    """A row's own number."""
    return sa.Column("id", ID, primary_key=True)


def of(table: str) -> sa.Column[int]:
    """The row of another table that a row belongs to."""
    return sa.Column(f"{table}_id", ID, sa.ForeignKey(f"{table}.id"), nullable=False, index=True)
