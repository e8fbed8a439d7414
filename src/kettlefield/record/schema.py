"""The record's tables. Times are seconds, sizes bytes; a figure that was not measured is NULL.

History of the format (``migrations/`` brings an older record to the newest one):
1: first format.
2: attempts tell their scripted turn, trials their outcome without repair turns.
3: exercises tell their suite and its weight, timed requests their procedure and point, phases their energy.
4: signatures.
5: candidates tell whether they are a baseline, sessions which program served.
6: exercises tell why they are not measured and how their replies are marked; pictures of pages, marks, judgements.
7: sessions tell which settings the server took and what its processes had loaded; what was measured again is marked.
8: columns have the trade's names; which server is simulated, an exercise's own suite and seed, and how many requests
   a memory phase had at once are columns.
9: trials tell how much of the context stood before their exercise; what servers say of themselves.
10: exercises about a long text tell its length and where the needed parts stand.
11: runs in a workspace, turn by turn.
12: campaigns that stop when it is decided: the block of each exercise, and what was seen at each look.
13: campaigns on several rigs, and runs that write into a database.
14: answers that rigs of the same runtime share, and which worker graded a reply.
"""

from typing import Any

import sqlalchemy as sa
from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    Table,
    UniqueConstraint,
)

FORMAT = 14
metadata = MetaData()


class String(sa.types.TypeDecorator[str]):
    """Text that may hold what a database takes none of, as replies do; it sorts by code points on every engine."""

    impl = sa.String
    cache_ok = True

    def load_dialect_impl(self, dialect: sa.Dialect) -> sa.types.TypeEngine[Any]:
        """See ``sqlalchemy.types.TypeDecorator``: the order of a language would change what digests are over."""
        return dialect.type_descriptor(sa.String(collation="C") if dialect.name == "postgresql" else sa.String())

    def process_bind_param(self, value: Any, dialect: Any) -> Any:
        """See ``sqlalchemy.types.TypeDecorator``."""
        return storable(value) if isinstance(value, str) else value


def storable(text: str) -> str:
    """Text as every engine takes it: halves of surrogate pairs and the character NUL are escaped."""
    return text.encode("utf-8", "backslashreplace").decode().replace("\0", "\\x00")


# SQLite counts up by itself only what is called INTEGER, which has 64 bits there
_ID = BigInteger().with_variant(Integer, "sqlite")


def _id() -> Column[int]:
    return Column("id", _ID, primary_key=True)


def _of(table: str) -> Column[int]:
    return Column(f"{table}_id", _ID, ForeignKey(f"{table}.id"), nullable=False, index=True)


# the format, where Alembic keeps it
format_version = Table("alembic_version", metadata, Column("version_num", String, primary_key=True))

meta = Table("meta", metadata, Column("key", String, primary_key=True), Column("value", String, nullable=False))

campaign = Table(
    "campaign",
    metadata,
    _id(),
    Column("title", String, nullable=False),
    Column("started_at", Float, nullable=False),  # seconds since the epoch
    Column("tool_version", String, nullable=False),
    Column("plan_text", String, nullable=False),
    Column("plan_digest", String, nullable=False),
    Column("plan_parts", String, nullable=False),  # JSON: part -> digest
    Column("suite_name", String, nullable=False),
    Column("suite_digest", String, nullable=False),
    Column("rig", String, nullable=False),  # JSON: host, accelerator, toolchains, isolation
    Column("simulated", Boolean, nullable=False),
    Column("until", String),  # "decided": candidates stop as soon as they are; none: everything is asked
)

exercise = Table(
    "exercise",
    metadata,
    Column("id", String, primary_key=True),
    Column("title", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("language", String, nullable=False),
    Column("difficulty", Integer, nullable=False),
    Column("topics", String, nullable=False),  # JSON list
    Column("suite", String, nullable=False),  # label of the suite that it is of
    Column("weight", Float, nullable=False),  # of its suite's pass rate in the candidate's, beside other suites
    Column("varies", Boolean, nullable=False),  # another seed asks something else
    Column("suite_name", String),  # of its suite, whatever the seed; none: the record is older than this column
    Column("suite_seed", BigInteger),
    Column("own_id", String),  # its id within its suite
    Column("not_measured", String),  # why it cannot be asked on this rig; none: it can
    Column("guidance", String),  # for those who mark its replies; none: the general one
    Column("refer", String),  # JSON: of the long text that it is about, name, characters, places; none: about none
    Column("block", Integer),  # in which it is asked, from 1; none: the campaign asks everything
)

rig = Table(
    "rig",
    metadata,
    _id(),
    Column("name", String, nullable=False, unique=True),  # as the plan calls it
    Column("at", Float, nullable=False),  # when it first took part, seconds since the epoch
    Column("facts", String, nullable=False),  # JSON: host, accelerator, toolchains, isolation, calibration
    Column("simulated", Boolean, nullable=False),
    Column("memory_budget_bytes", BigInteger),
    Column("cost_per_hour", Float),  # in the plan's currency
)

candidate = Table(
    "candidate",
    metadata,
    _id(),
    Column("name", String, nullable=False, unique=True),  # model@level, and on which rig where there are several
    Column("model", String, nullable=False),
    Column("level", String, nullable=False),
    Column("reference", Boolean, nullable=False),
    Column("baseline", Boolean),  # compared with, not up for approval; none: it is not
    Column("settings", String, nullable=False),  # JSON, every setting as resolved
    Column("weights_path", String),
    Column("weights_bytes", BigInteger),
    Column("weights_sha256", String),
    Column("weights_facts", String, nullable=False),  # JSON: what the header says, and what it predicts
    Column("rig_id", _ID, ForeignKey("rig.id")),  # none: the campaign has one rig, which its own row describes
    Column("runtime", String),  # digest over weights, settings, program and libraries; none: answers are not shared
    # the candidate whose answers are its own, itself where it was asked; none: each rig is asked, or not yet
    Column("answers_from_id", BigInteger),
)

session = Table(
    "session",
    metadata,
    _id(),
    _of("candidate"),
    Column("started_at", Float, nullable=False),
    Column("command", String, nullable=False),  # JSON list; empty when attached by url
    Column("url", String, nullable=False),
    Column("program", String),  # JSON: path and sha256 of the command's program; none: attached by url
    Column("description", String, nullable=False),  # what the server says of itself
    Column("simulated", Boolean),  # it says that it is a simulated one
    Column("preflight", String),  # JSON: neutral settings that were sent, and those left at an unknown default
    Column("loaded", String),  # JSON: files and packages that its processes had loaded, with digests
    Column("load_kind", String, nullable=False),  # "as found", "cold" (its pages were dropped before), "warm"
    Column("load_s", Float),  # started until ready
    Column("load_disturbed", String),  # what the host was busy with meanwhile; none: nothing
    Column("first_answer_s", Float),  # started until the first token of a reply
    Column("baseline_bytes", BigInteger),  # accelerator memory in use before the start
    Column("ended", String),  # "stopped", or what went wrong
)

prompt = Table(
    "prompt",
    metadata,
    _id(),
    Column("digest", String, nullable=False, unique=True),
    Column("messages", LargeBinary, nullable=False),  # zlib over JSON: the same prompt is sent many times
)

exchange = Table(
    "exchange",
    metadata,
    _id(),
    _of("candidate"),
    _of("session"),
    Column("purpose", String, nullable=False),  # "preflight", "warm-up", "answer", "filled answer", or what timed it
    Column("point", String),  # JSON: what of the procedure, such as its depth; none outside one
    Column("superseded_at", Float),  # measured again then, seconds since the epoch; none: it counts
    Column("disturbed", String),  # why this sample is disturbed; none: it was not
    Column("memory_bytes", BigInteger),  # host and accelerator together, when a timed request ended
    Column("scheduled_lag_s", Float),  # sent this long after its scheduled moment; none: it had none
    Column("asked_at", Float, nullable=False),
    Column("concurrency", Integer, nullable=False),  # most requests under way at once, this one included
    _of("prompt"),
    Column("sampling", String, nullable=False),  # JSON, as sent
    Column("reply", LargeBinary, nullable=False),  # zlib over UTF-8
    Column("thinking", LargeBinary, nullable=False),
    Column("finish_reason", String),
    Column("fault", String),
    Column("prompt_tokens", Integer),
    Column("completion_tokens", Integer, nullable=False),
    Column("token_count", String, nullable=False),  # "usage" or "events"
    Column("events", Integer, nullable=False),  # with text
    Column("thinking_tokens", Integer, nullable=False),  # of the completion tokens
    Column("packed", Boolean, nullable=False),  # several tokens an event
    Column("ttft_s", Float),
    Column("answer_ttft_s", Float),
    Column("finished_s", Float, nullable=False),
    Column("decode_tps", Float),
    Column("prefill_tps", Float),
    Column("itl_p50_s", Float),
    Column("itl_p95_s", Float),
    Column("itl_p99_s", Float),
    Column("itl_max_s", Float),
    Column("stamps", LargeBinary, nullable=False),  # every arrival, packed: see packing.py
)

trial = Table(
    "trial",
    metadata,
    _id(),
    _of("candidate"),
    Column("exercise_id", String, ForeignKey("exercise.id"), nullable=False),
    Column("sample", Integer, nullable=False),  # 1, 2 ...
    Column("seed", BigInteger, nullable=False),
    Column("context_fill", Float),  # share of the context that files and exercise take; none: the exercise alone
    Column("outcome", String, nullable=False),
    Column("first_outcome", String, nullable=False),  # what it would have been without repair turns
    Column("score", Float, nullable=False),  # weighted share of checks passed, 0 to 1
    Column("attempts", Integer, nullable=False),
    Column("finished_at", Float, nullable=False),
)
# an expression, since no two empty values are equal
sa.Index(
    "one_trial_each",
    trial.c.candidate_id,
    trial.c.exercise_id,
    trial.c["sample"],
    sa.func.coalesce(trial.c.context_fill, 0.0),
    unique=True,
)

attempt = Table(
    "attempt",
    metadata,
    _id(),
    _of("trial"),
    Column("number", Integer, nullable=False),
    Column("turn", Integer, nullable=False),  # of the scripted turns, from 1
    Column("exchange_id", _ID, ForeignKey("exchange.id")),  # none: the server was gone
    Column("outcome", String, nullable=False),
    Column("score", Float, nullable=False),
    Column("files", LargeBinary, nullable=False),  # zlib over JSON: name -> text
    Column("extraction", String, nullable=False),  # JSON: how, remarks, language
    Column("fault", String, nullable=False),  # of server or rig, in words
    Column("graded_by", String),  # a worker of a fleet; none: the rig itself
)

check_result = Table(
    "check_result",
    metadata,
    _id(),
    _of("attempt"),
    Column("name", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("required", Boolean, nullable=False),
    Column("weight", Float, nullable=False),
    Column("passed", Boolean, nullable=False),
    Column("end", String, nullable=False),
    Column("cases_passed", Integer, nullable=False),
    Column("cases_total", Integer, nullable=False),
    Column("detail", String, nullable=False),
    Column("wall_s", Float, nullable=False),
)

picture = Table(
    "picture",
    metadata,
    _id(),
    _of("attempt"),
    Column("width", String, nullable=False),  # "phone" or "desktop"
    Column("png", LargeBinary, nullable=False),
)

workspace_run = Table(
    "workspace_run",
    metadata,
    _id(),
    _of("attempt"),
    Column("form", String, nullable=False),  # "functions" or "blocks": how the tools were offered and called
    Column("ended", String, nullable=False),  # "finished", "stopped", "looping", "over-turns" ...
    Column("diff", LargeBinary, nullable=False),  # zlib over UTF-8: what it changed
    Column("lines_changed", Integer, nullable=False),
    Column("own_lines_changed", Integer, nullable=False),  # of the exercise's own answer
    Column("completion_tokens", Integer, nullable=False),  # that the model wrote in all turns
    Column("model_s", Float, nullable=False),  # waiting for the model, all turns
    Column("tools_s", Float, nullable=False),  # in the tools, all calls
)

workspace_turn = Table(
    "workspace_turn",
    metadata,
    _id(),
    _of("attempt"),
    Column("number", Integer, nullable=False),  # from 1
    Column("exchange_id", _ID, ForeignKey("exchange.id"), nullable=False),  # its prompt: what the turn added
    # zlib over JSON: a list with tool, arguments, result, wall_s and reason (why it failed) of each call
    Column("calls", LargeBinary, nullable=False),
    Column("results_left_out", Integer, nullable=False),  # earlier results that made room in the context after it
)

mark = Table(
    "mark",
    metadata,
    _id(),
    Column("at", Float, nullable=False),
    Column("marker", String, nullable=False),
    Column("exercise_id", String, ForeignKey("exercise.id"), nullable=False),
    Column("item", String, nullable=False),  # digest of what was shown: equal replies are one item
    Column("showing", Integer, nullable=False),  # 1, or 2 when it was shown again to see whether the mark holds
    Column("value", Integer),  # 0 to 4; none: skipped, or the one before is taken back
    Column("note", String, nullable=False),
    Column("via", String, nullable=False),  # "terminal" or "sheet"
)

judgement = Table(
    "judgement",
    metadata,
    _id(),
    Column("at", Float, nullable=False),
    Column("judge", String, nullable=False),
    Column("exercise_id", String, ForeignKey("exercise.id"), nullable=False),
    Column("first_item", String, nullable=False),
    Column("second_item", String),  # none: one item was marked by itself
    Column("round", Integer, nullable=False),  # 1, 2 ...: the same question again with another seed
    Column("value", Integer),  # 0 to 4, of one item
    Column("choice", String),  # "first", "second" or "equal", of a pair
    Column("reply", LargeBinary, nullable=False),  # zlib over UTF-8
    Column("fault", String, nullable=False),  # why there is neither value nor choice; empty when there is
    UniqueConstraint("judge", "first_item", "second_item", "round"),
)

memory_block = Table(
    "memory_block",
    metadata,
    _id(),
    _of("session"),
    Column("phase", String, nullable=False),  # "load", a procedure's name, "answers" (also with a fill), "idle"
    Column("concurrency", Integer),  # requests in flight during it; none: not one count alone
    Column("superseded_at", Float),  # measured again then; none: it counts
    Column("samples", Integer, nullable=False),
    Column("host_peak_bytes", BigInteger, nullable=False),  # proportional share of the server's process tree
    Column("accelerator_peak_bytes", BigInteger, nullable=False),
    Column("peak_bytes", BigInteger, nullable=False),  # of the two together, at one moment
    Column("end_bytes", BigInteger, nullable=False),  # of the two together, at the phase's end
    Column("mapped_peak_bytes", BigInteger, nullable=False),  # of the host's: file pages that it maps, as weights
    Column("energy_j", Float),  # used during the phase; none: nothing here tells
    Column("energy_from", String),  # its source
    Column("series", LargeBinary, nullable=False),  # every sample, packed
)

procedure = Table(
    "procedure",
    metadata,
    _id(),
    _of("candidate"),
    _of("session"),
    Column("name", String, nullable=False),  # "latency", "depth", "closed_loop", "open_loop", "prompt_cache" ...
    Column("superseded_at", Float),  # measured again then; none: it counts
    Column("ended_at", Float, nullable=False),
    Column("why_ended", String, nullable=False),  # "precise", "done", "budget", or a fault in words
    Column("facts", String, nullable=False),  # JSON: what it found out as a whole
)

server_metrics = Table(
    "server_metrics",
    metadata,
    _id(),
    _of("session"),
    # zlib over JSON: kinds (name -> "counter" or "gauge"), at_s, phases, values (name -> one a look)
    Column("looks", LargeBinary, nullable=False),
)

look = Table(
    "look",
    metadata,
    _id(),
    _of("candidate"),
    Column("at", Float, nullable=False),
    Column("block", Integer, nullable=False),  # after which it was looked at
    Column("criterion", Integer, nullable=False),  # of the plan, from 1
    Column("exercises", Integer, nullable=False),  # of those that the criterion is about, asked by then
    Column("planned", Integer, nullable=False),  # of those that it is about
    Column("confidence", Float, nullable=False),  # one-sided, that the interval has at this look
    Column("value", Float),
    Column("low", Float),
    Column("high", Float),
    Column("trials", Integer, nullable=False),  # that the figure rests on
    Column("status", String, nullable=False),  # "met", "not met", "undecided"
    Column("reason", String, nullable=False),  # why it is undecided
    UniqueConstraint("candidate_id", "block", "criterion"),
)

note = Table(
    "note",
    metadata,
    _id(),
    Column("at", Float, nullable=False),
    Column("candidate_id", _ID, ForeignKey("candidate.id")),
    Column("text", String, nullable=False),
)

signature = Table(
    "signature",
    metadata,
    _id(),
    Column("at", Float, nullable=False),
    Column("signed_by", String, nullable=False),
    Column("note", String, nullable=False),
    Column("verdicts", String, nullable=False),  # JSON: candidate -> verdict
    Column("plan_digest", String, nullable=False),
    Column("suite_digest", String, nullable=False),
    Column("results_digest", String, nullable=False),  # over every row of the other tables
    Column("format", Integer),  # of the record when it was signed; none: 7 or older
    Column("previous_digest", String, nullable=False),
    Column("digest", String, nullable=False),  # over this row and, through the one above, all before it
)

# runs that write into a database: how far each has come, so that nothing is written twice after it was away
run_writer = Table(
    "run_writer",
    metadata,
    Column("id", String, primary_key=True),
    Column("rig", String, nullable=False),
    Column("last_number", BigInteger, nullable=False),  # of its writes, from 1
    Column("started_at", Float, nullable=False),
)
