"""A campaign in a PostgreSQL database: a namespace of its own there, so that rows keep the ids that signatures cover.

Every campaign has its own tables, in the namespace ``kettlefield_NAME``; rights on it are given and taken with the
database's own GRANT. Who holds a campaign for a run is known by an advisory lock, which ends with the connection.
"""

import contextlib
import hashlib
import os
import socket
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa

from kettlefield.core.errors import InputError, KettlefieldError, RigError
from kettlefield.record.place import DatabasePlace

PREFIX = "kettlefield_"  # of the namespaces of campaigns
_CONNECT_WITHIN_S = 5
_UNANSWERED_MS = 10_000  # a network that swallows what is sent is given up after this
_INSTALL = "Install it: pip install 'kettlefield[postgres]'."
_LOST_STATES = ("08", "57P")  # SQLSTATE classes: connection exceptions, operator intervention
# serialization failure, deadlock, a row that another rig added at the same moment: the same again works
_CONFLICTS = frozenset({"40001", "40P01", "23505"})
_NO_RIGHT = "42501"
_ASK = "Ask for CREATE on the database to begin campaigns, or for rights on this campaign's namespace and its tables."
# what libpq says, in its own words, of a connection that no waiting brings about
_REFUSALS = (
    ("password authentication failed", "refuses the password", "Set PGPASSWORD, or put it into ~/.pgpass."),
    ("no password supplied", "wants a password", "Set PGPASSWORD, or put it into ~/.pgpass."),
    ("authentication failed", "refuses this user", "Check the user's name, and what pg_hba.conf lets in."),
    ("no pg_hba.conf entry", "lets nobody in from here", "Check what pg_hba.conf lets in."),
    ("translate host name", "names a host that is not known", "Check the host's name."),
    ("Name or service not known", "names a host that is not known", "Check the host's name."),
    ("failed to resolve host", "names a host that is not known", "Check the host's name."),
    ("does not exist", "names a database or a user that does not exist", "Create it, or check the URL."),
)


class DatabaseEngine:
    """How a campaign in a database is reached."""

    is_shared = True

    def __init__(self, place: DatabasePlace) -> None:
        self.place = place
        self.engine = open_engine(place)
        self._locks: dict[str, sa.Connection] = {}

    @property
    def namespace(self) -> str:
        """Where its tables are."""
        return f"{PREFIX}{self.place.campaign}"

    def exists(self) -> bool:
        """Whether the campaign is there.

        Raises
        ------
        KettlefieldError
            The database cannot be reached.
        """
        try:
            with self.engine.connect() as connection:
                query = sa.text("SELECT has_schema_privilege(oid, 'USAGE') FROM pg_namespace WHERE nspname = :name")
                may_use = connection.execute(query, {"name": self.namespace}).scalar_one_or_none()
        except sa.exc.DBAPIError as err:
            raise self.damage(err) from err
        if may_use is False:
            raise InputError("refuses it (permission denied)", str(self.place), _ASK)
        return may_use is not None

    def refusal(self) -> InputError:
        """What to say of something that is not a record."""
        hint = f'The namespace "{self.namespace}" holds something else; name another campaign.'
        return InputError("is not a Kettlefield record", str(self.place), hint)

    def absence(self) -> InputError:
        """What to say when there is none."""
        here = f"{DatabasePlace(self.place.url)}"
        hint = f"Run `kettlefield qualify` first, or list what is there: kettlefield records '{here}'."
        return InputError("there is no such record", str(self.place), hint)

    def prepare(self) -> None:
        """Make ready for the tables.

        Raises
        ------
        KettlefieldError
            The database cannot be reached, or its user may not create anything in it.
        """
        try:
            with self.engine.begin() as connection:
                self._alone(connection)
                if not _is_there(connection, self.namespace):  # IF NOT EXISTS asks for the right to create it as well
                    connection.execute(sa.schema.CreateSchema(self.namespace))
        except sa.exc.DBAPIError as err:
            raise self.damage(err) from err

    def begin_whole(self, connection: sa.Connection) -> None:
        """Let changes of tables take effect for one run at a time."""
        self._alone(connection)

    def freeze(self, connection: sa.Connection) -> None:
        """Read as of now, whatever is written meanwhile."""
        connection.execute(sa.text("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY"))

    def destroy(self) -> None:
        """Remove the campaign's namespace with its tables."""
        with self.engine.begin() as connection:
            connection.execute(sa.schema.DropSchema(self.namespace, cascade=True))

    def _alone(self, connection: sa.Connection) -> None:
        connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_key(self.namespace, "tables"))))

    @contextlib.contextmanager
    def lock(self, rig: str) -> Iterator[None]:
        """Hold the campaign on a rig for one run; the lock goes with the connection, however it ends.

        Raises
        ------
        InputError
            Another run holds it.
        """
        self._take(rig)
        try:
            yield
        finally:
            held = self._locks.pop(rig, None)
            if held is not None:
                held.invalidate()  # closed for good: a connection in the pool would keep the lock
                held.close()

    def keep_locks(self) -> None:
        """Take the locks again that ended with their connections; for after the database was away.

        Raises
        ------
        InputError
            Another run took one meanwhile.
        """
        for rig, held in list(self._locks.items()):
            try:
                held.execute(sa.text("SELECT 1"))
                held.commit()
            except sa.exc.DBAPIError:
                held.close()
                del self._locks[rig]
                self._take(rig)

    def _take(self, rig: str) -> None:
        key = _key(self.namespace, rig)
        try:
            connection = self.engine.connect()
            taken = connection.execute(sa.select(sa.func.pg_try_advisory_lock(key))).scalar_one()
            holder = None if taken else _holder(connection, key)
            connection.commit()
        except sa.exc.DBAPIError as err:
            raise self.damage(err) from err
        if not taken:
            connection.close()
            on_rig = f' on rig "{rig}"' if rig else ""
            hint = "Wait for it, or stop it with Ctrl-C."
            raise InputError(f"another run is using it{on_rig} ({holder or 'unknown'})", str(self.place), hint)
        self._locks[rig] = connection

    def damage(self, err: sa.exc.DBAPIError) -> KettlefieldError:
        """What to say when the database refuses."""
        return database_error(err, str(self.place))

    def is_lost(self, err: sa.exc.DBAPIError) -> bool:
        """Whether an error means that the database is away for now."""
        return is_lost(err)


def open_engine(place: DatabasePlace) -> sa.Engine:
    """An engine for a place, its campaign's namespace searched alone; nothing is connected yet.

    Raises
    ------
    InputError
        The driver is not installed.
    """
    options = f'-csearch_path="{PREFIX}{place.campaign}"' if place.campaign is not None else ""
    settings: dict[str, Any] = {
        "application_name": f"kettlefield {socket.gethostname()} {os.getpid()}",
        "connect_timeout": _CONNECT_WITHIN_S,
        "tcp_user_timeout": _UNANSWERED_MS,
        "options": options,
    }
    try:
        return sa.create_engine(place.url, pool_pre_ping=True, connect_args=settings)
    except ModuleNotFoundError as err:
        raise InputError(f"needs {err.name}, which is not installed", str(place), _INSTALL) from err


def campaign_names(engine: sa.Engine) -> list[str]:
    """The campaigns that a database holds and this user may read, by name."""
    query = sa.text(
        "SELECT nspname FROM pg_namespace WHERE starts_with(nspname, :prefix) "
        "AND has_schema_privilege(nspname, 'USAGE') ORDER BY nspname"
    )
    with engine.connect() as connection:
        return [str(name).removeprefix(PREFIX) for name in connection.execute(query, {"prefix": PREFIX}).scalars()]


def is_lost(err: sa.exc.DBAPIError) -> bool:
    """Whether an error means that the database is away for now: a connection that broke, or a server that restarts."""
    state = getattr(err.orig, "sqlstate", None)
    if state is not None:
        return str(state).startswith(_LOST_STATES)
    return isinstance(err, sa.exc.OperationalError) and not any(words in str(err.orig) for words, _, _ in _REFUSALS)


def is_conflict(err: sa.exc.DBAPIError) -> bool:
    """Whether two writers were in each other's way, and the same again works."""
    return getattr(err.orig, "sqlstate", None) in _CONFLICTS


def database_error(err: sa.exc.DBAPIError, where: str) -> KettlefieldError:
    """What the user can put right: a wrong URL, user, password or right is bad input, all else failed here."""
    text = str(err.orig)
    first = next((line for line in text.splitlines() if line.strip()), "no reason given").strip()
    if getattr(err.orig, "sqlstate", None) == _NO_RIGHT:
        return InputError(f"refuses it ({first})", where, _ASK)
    for words, what, hint in _REFUSALS:
        if words in text:
            return InputError(f"{what} ({first})", where, hint)
    hint = "Check that the server runs and can be reached; what is in the database is kept, and the same command works."
    return RigError(f"the database does not answer ({first})", where, hint)


def _key(namespace: str, part: str) -> int:
    """The number of an advisory lock: 64 bits, signed."""
    digest = hashlib.sha256(f"kettlefield\0{namespace}\0{part}".encode()).digest()
    return int.from_bytes(digest[:8], "big", signed=True)


def _is_there(connection: sa.Connection, namespace: str) -> bool:
    query = sa.text("SELECT 1 FROM pg_namespace WHERE nspname = :name")
    return connection.execute(query, {"name": namespace}).first() is not None


def _holder(connection: sa.Connection, key: int) -> str | None:
    """The program that holds a lock, as it calls itself: with its host and process."""
    query = sa.text(
        "SELECT a.application_name FROM pg_locks l JOIN pg_stat_activity a USING (pid) "
        "WHERE l.locktype = 'advisory' AND l.granted AND l.classid = :high AND l.objid = :low"
    )
    unsigned = key & (2**64 - 1)
    row = connection.execute(query, {"high": unsigned >> 32, "low": unsigned & (2**32 - 1)}).first()
    return str(row[0]) if row is not None and row[0] else None
