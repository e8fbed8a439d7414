"""Where a record is: a file, or a campaign in a database; as it is written in a plan or on the command line."""

import re
from collections.abc import Callable
from pathlib import Path

import msgspec
import sqlalchemy as sa

from kettlefield.core.errors import InputError

_URL = re.compile(r"(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*)://")
_DATABASES = {"postgresql": "postgresql+psycopg", "postgresql+psycopg": "postgresql+psycopg"}
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,47}")
_EXAMPLE = "postgresql+psycopg://user@host/database#campaign"


class FilePlace(msgspec.Struct, frozen=True):
    """A record that is a file of its own."""

    path: Path

    def __str__(self) -> str:
        return str(self.path)

    @property
    def short(self) -> str:
        """What to write behind a command, in the record's folder."""
        return self.path.name

    @property
    def folder(self) -> Path:
        """Where the record is; relative paths of its plan are relative to it."""
        return self.path.parent

    def beside(self, suffix: str) -> Path:
        """The file of this suffix that belongs to the record."""
        return self.path.with_name(self.path.name + suffix)


class DatabasePlace(msgspec.Struct, frozen=True):
    """A campaign in a database; without a name, the only one there, or the one that a plan's title names."""

    url: sa.URL  # without a password: that comes from the environment or ~/.pgpass
    campaign: str | None = None

    def __str__(self) -> str:
        plain = self.url.render_as_string(hide_password=True).replace("%2F", "/")  # of a socket in the query
        return f"{plain}#{self.campaign}" if self.campaign is not None else plain

    @property
    def short(self) -> str:
        """What to write behind a command; in quotes, since a shell reads ``#`` and ``&`` itself."""
        return f"'{self}'"

    @property
    def folder(self) -> Path:
        """Where files go that belong to the record: a database has no folder of its own."""
        return Path()

    def beside(self, suffix: str) -> Path:
        """The file of this suffix that belongs to the record, in the present folder."""
        return Path(f"{self.campaign or self.url.database}{suffix}")

    def named(self, name: str) -> "DatabasePlace":
        """The same database, and one of its campaigns."""
        return DatabasePlace(self.url, checked_name(name, str(self)))


Place = FilePlace | DatabasePlace


def read_place(text: str, folder: Path | None = None) -> Place:
    """A record as it is written: a path, relative to a folder, or a URL with ``#CAMPAIGN`` behind it.

    Raises
    ------
    InputError
        The URL holds a password, is of another kind of database, or its campaign's name cannot be one.
    """
    match = _URL.match(text)
    if match is None:
        return FilePlace(folder / text if folder is not None else Path(text))
    scheme = match["scheme"].lower()
    if scheme not in _DATABASES:
        hint = f"Records are kept in a file or in PostgreSQL: {_EXAMPLE}."
        raise InputError(f'is of the kind "{scheme}"', _without_password(text), hint)
    address, _, campaign = text.partition("#")
    try:
        url = sa.make_url(address).set(drivername=_DATABASES[scheme])
    except (sa.exc.ArgumentError, ValueError) as err:
        raise InputError("cannot be read as a URL", _without_password(text), f"Write {_EXAMPLE}.") from err
    if url.password is not None or "password" in url.query:
        hint = "Leave it out: it comes from PGPASSWORD or ~/.pgpass, so that it is never printed or stored."
        raise InputError("holds a password", _without_password(text), hint)
    if not url.database and "dbname" not in url.query:
        raise InputError("names no database", str(DatabasePlace(url)), f"Write {_EXAMPLE}.")
    place = DatabasePlace(url)
    return place.named(campaign) if campaign else place


def checked_name(name: str, where: str) -> str:
    """A campaign's name in a database.

    Raises
    ------
    InputError
        It holds other characters, or is too long.
    """
    if _NAME.fullmatch(name) is None:
        hint = "Use up to 48 lower-case letters, digits, - and _, a letter or digit first."
        raise InputError(f'the campaign is called "{name}"', where, hint)
    return name


def name_of_title(title: str) -> str:
    """The name that a campaign has in a database when its plan gives none: its title, as far as a name can hold it."""
    plain = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:48].strip("-")
    return plain or "campaign"


def as_place(where: Place | Path | str) -> Place:
    """A place, whatever it is given as."""
    if isinstance(where, Path):
        return FilePlace(where)
    return read_place(where) if isinstance(where, str) else where


def _without_password(text: str) -> str:
    """The text as it may be shown: what stands between a user's name and the host is left out."""
    hidden: Callable[[re.Match[str]], str] = lambda match: f"{match[1]}***@"  # noqa: E731
    return re.sub(r"([?&]password=)[^&#]*", r"\1***", re.sub(r"(://[^/@:]*:)[^/]*@", hidden, text))
