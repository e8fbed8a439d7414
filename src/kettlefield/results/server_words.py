"""What servers say of themselves, beside what we counted: token counters, cache use and queues under load."""

from itertools import pairwise

import msgspec
import numpy as np
import pandas as pd
import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.packing import unpack_json
from kettlefield.record.store import Record
from kettlefield.results.capacity import procedure_ends
from kettlefield.server.metrics_text import means

SLACK, SLACK_TOKENS = 0.02, 64  # of a count, by which ours may differ: probes that are no requests of a campaign
LOAD_PHASES = frozenset({"closed_loop", "open_loop"})
GAUGES = ("running", "waiting", "cache_use")
SCORED = "fidelity"  # its texts are read by the server and are no exchange of ours


class Counted(msgspec.Struct, frozen=True, kw_only=True):
    """One count of tokens, ours beside the server's."""

    candidate: str
    what: str  # "prompt_tokens" or "completion_tokens"
    counter: str  # the server's name for it
    server: float
    ours: float
    not_compared: str  # why the two need not agree, in words; empty: they are compared

    @property
    def agrees(self) -> bool | None:
        """Whether the two are equal within the slack; None: not compared."""
        if self.not_compared:
            return None
        return abs(self.server - self.ours) <= max(SLACK_TOKENS, SLACK * max(self.server, self.ours))


class ServerWords(msgspec.Struct, frozen=True, kw_only=True):
    """All that the servers of a campaign said."""

    counted: tuple[Counted, ...]
    load: pd.DataFrame  # under load: columns candidate, at_s, phase, and `GAUGES` where a server tells them

    def of(self, candidates: set[str]) -> "ServerWords":
        """What the servers of some candidates said."""
        counted = tuple(one for one in self.counted if one.candidate in candidates)
        return ServerWords(counted=counted, load=self.load[self.load["candidate"].isin(candidates)])


def server_words(record: Record) -> ServerWords:
    """What is known; empty where no plan gave a metrics_path."""
    return record.once("server_words", lambda: _read(record))


def _read(record: Record) -> ServerWords:
    table, session, candidate = schema.server_metrics, schema.session, schema.candidate
    query = (
        sa.select(candidate.c.name, session.c.id, session.c.load_kind, table.c.looks)
        .join(session, session.c.id == table.c.session_id)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .where(session.c.load_kind != "cold")
        .order_by(table.c.id)
    )
    ends = procedure_ends(record)
    totals: dict[tuple[str, str, str], list[float]] = {}
    frames = []
    with record.reading() as connection:
        rows = connection.execute(query).all()
        ours = {row.id: _ours(connection, row.id) for row in rows}
    for row in rows:
        looks = unpack_json(row.looks)
        said = {name: means(name, kind) for name, kind in looks["kinds"].items()}
        for name, what in said.items():
            if what in {"prompt_tokens", "completion_tokens"}:
                total = totals.setdefault((row.name, what, name), [0.0, 0.0])
                total[0] += _grown(looks["values"][name])
                total[1] += ours[row.id][what]
        frames.append(_under_load(row.name, looks, said))
    counted = tuple(
        Counted(candidate=name, what=what, counter=counter, server=server, ours=own, not_compared=_why_not(name, ends))
        for (name, what, counter), (server, own) in totals.items()
    )
    columns = ["candidate", "at_s", "phase", *GAUGES]
    load = pd.concat(frames, ignore_index=True) if frames else pd.DataFrame(columns=columns)
    return ServerWords(counted=counted, load=load)


def _why_not(candidate: str, ends: dict[str, dict[str, tuple[str, dict[str, object]]]]) -> str:
    return "fixed texts were scored, which are not counted here" if SCORED in ends.get(candidate, {}) else ""


def _ours(connection: sa.Connection, session_id: int) -> dict[str, float]:
    """Tokens of every request of a session, as its server's replies told them."""
    table = schema.exchange
    names = ("prompt_tokens", "completion_tokens")
    sums = [sa.func.coalesce(sa.func.sum(table.c[name]), 0) for name in names]
    row = connection.execute(sa.select(*sums).where(table.c.session_id == session_id)).one()
    return dict(zip(names, map(float, row), strict=True))


def _grown(values: list[float | None]) -> float:
    """How much a counter grew; one that fell began again from nothing."""
    known = [value for value in values if value is not None]
    return sum(now - before if now >= before else now for before, now in pairwise(known))


def _under_load(name: str, looks: dict[str, object], said: dict[str, str | None]) -> pd.DataFrame:
    values, phases, at_s = looks["values"], looks["phases"], looks["at_s"]
    assert isinstance(values, dict) and isinstance(phases, list)  # noqa: S101 - as they were written
    frame = pd.DataFrame({"candidate": name, "at_s": at_s, "phase": phases})
    for gauge in GAUGES:
        held = [values[counter] for counter, what in said.items() if what == gauge]
        # several gauges of one meaning: the fullest cache, the longest queue
        columns = [np.asarray([np.nan if v is None else v for v in one], dtype=float) for one in held]
        frame[gauge] = np.nanmax(np.vstack(columns), axis=0) if columns and len(at_s) else np.nan  # type: ignore[arg-type]
    return frame[frame["phase"].isin(LOAD_PHASES)]
