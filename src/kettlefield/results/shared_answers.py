"""Answers that rigs of the same runtime share: whose count for which candidate, and which runtimes are the same."""

import hashlib
import json

import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.store import Record

# of a package that was loaded, what is the same wherever it is installed
_OF_PACKAGE = ("module", "name", "version", "sha256", "serves")


def runtime_of(record: Record, session_id: int) -> str | None:
    """A digest over all that answers depend on and that can be known: weights, settings, program, libraries.

    The accelerator is not part of it: whoever lets rigs share answers says that its kind makes no difference.

    Returns
    -------
    str or None
        None: it cannot be known, as of a server that was not started here or weights without a digest.
    """
    session, candidate, rig = schema.session, schema.candidate, schema.rig
    query = (
        sa.select(candidate.c.name, candidate.c.settings, candidate.c.weights_sha256, rig.c.name.label("rig"))
        .add_columns(session.c.program, session.c.loaded)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .outerjoin(rig, rig.c.id == candidate.c.rig_id)
        .where(session.c.id == session_id)
    )
    with record.reading() as connection:
        row = connection.execute(query).one()
    if not row.program or not row.loaded or row.weights_sha256 is None:
        return None
    program, loaded = json.loads(row.program), json.loads(row.loaded)
    facts = [
        row.name.removesuffix(f" on {row.rig}"),
        json.loads(row.settings),
        row.weights_sha256,
        # files are known by their digests: their folders differ between machines
        sorted(program.values()),
        sorted(set(loaded.get("files", {}).values())),
        [{name: entry.get(name) for name in _OF_PACKAGE} for entry in loaded.get("packages", ())],
    ]
    return f"sha256:{hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()}"


def shared_answers(record: Record) -> dict[str, str]:
    """Candidates that were not asked themselves -> the one whose answers count for them."""
    return record.once("shared_answers", lambda: _read_shared(record))


def _read_shared(record: Record) -> dict[str, str]:
    mine, theirs = schema.candidate.alias(), schema.candidate.alias()
    query = (
        sa.select(mine.c.name, theirs.c.name)
        .join(theirs, theirs.c.id == mine.c.answers_from_id)
        .where(theirs.c.id != mine.c.id)
        .order_by(mine.c.id)
    )
    with record.reading() as connection:
        return {own: other for own, other in connection.execute(query).all()}
