"""What a large record costs: 100,000 trials through contrast and decide, and a report, against a bare read.

python benchmarks/analysis.py [--trials 100000]
"""

import argparse
import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.packing import pack_json, pack_stamps, pack_text
from kettlefield.record.store import Record

LEVELS = ("f16", "q8_0", "q6_k", "q5_k_m", "q4_k_m", "q3_k_m", "q3_k_s", "q2_k")
EXERCISES = 500
AT_ONCE = 5_000  # trials that are inserted together
PLAN = """\
title = "A large campaign"
suite = "s"
record = "r"
[[candidate]]
model = "m"
level = "f16"
[[criterion]]
measure = "pass_rate"
at_least = 0.5
[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.05
[[criterion]]
measure = "escape_attempts"
at_most = 0
"""
BARE = "import sqlite3, sys; print(len(sqlite3.connect(sys.argv[1]).execute({query!r}).fetchall()))"
QUERY = (
    "SELECT t.*, e.ttft_s, e.decode_tps, e.completion_tokens, e.finished_s FROM trial t"
    " JOIN attempt a ON a.trial_id = t.id JOIN exchange e ON e.id = a.exchange_id"
)
OURS = """\
import sys
from kettlefield.plan.criteria import decide
from kettlefield.record.store import Record
found = decide(Record.open(sys.argv[1]))
print(sum(row.trials for row in found.table.rows))
"""


REPORT = """\
import sys, pathlib
from kettlefield.plan.criteria import decide
from kettlefield.record.store import Record
from kettlefield.views.report_page import write_report
path = pathlib.Path(sys.argv[1])
record = Record.open(path)
written = write_report(record, decide(record), path.parent / "report", as_markdown=False)
print(f"{written[0].stat().st_size / 2**20:.1f} MiB")
"""


def write_record(place: Path | str, trials: int) -> None:
    """A record of one model at eight levels, written in bulk, in a file or in a database."""
    rng, record = random.Random(3), Record.create_or_open(place)
    samples = max(1, trials // (len(LEVELS) * EXERCISES))
    reply, files = pack_text("def berths(n):\n    return n\n"), pack_json({"answer.py": "x"})
    stamps = pack_stamps([0.1, 0.2], [False, False])

    def write(connection: sa.Connection) -> None:
        connection.execute(
            schema.campaign.insert(),
            {
                "title": "Large", "started_at": 0.0, "tool_version": "0", "plan_text": PLAN, "plan_digest": "d",
                "plan_parts": "{}", "suite_name": "s", "suite_digest": "sha256:s", "rig": "{}", "simulated": True,
            },
        )  # fmt: skip
        connection.execute(
            schema.exercise.insert(),
            [
                {"id": f"e{n}", "title": "t", "kind": "write", "language": "python", "difficulty": 1 + n % 5,
                 "topics": '["tides"]', "suite": "s", "weight": 1.0, "varies": False}
                for n in range(EXERCISES)
            ],
        )  # fmt: skip
        connection.execute(schema.prompt.insert(), {"digest": "p", "messages": pack_json([])})
        number = 0
        for candidate, level in enumerate(LEVELS, 1):
            settings = f'{{"grading": {{"samples": {samples}}}, "speed": {{}}}}'
            connection.execute(
                schema.candidate.insert(),
                {"name": f"m@{level}", "model": "m", "level": level, "reference": level == "f16",
                 "settings": settings, "weights_facts": "{}"},
            )  # fmt: skip
            connection.execute(
                schema.session.insert(),
                {"candidate_id": candidate, "started_at": 0.0, "command": "[]", "url": "u", "description": "d",
                 "load_kind": "as found", "load_s": 1.0},
            )  # fmt: skip
            rows: dict[sa.Table, list[dict[str, object]]] = {
                table: [] for table in (schema.exchange, schema.trial, schema.attempt, schema.check_result)
            }
            for exercise in range(EXERCISES):
                merit = rng.random()
                for sample in range(1, samples + 1):
                    number += 1
                    passed = rng.random() < 0.2 + 0.7 * merit - 0.04 * candidate
                    outcome = "passed" if passed else "wrong-answer"
                    rows[schema.exchange].append(
                        {"id": number, "candidate_id": candidate, "session_id": candidate, "purpose": "answer",
                         "asked_at": 0.0, "concurrency": 4, "prompt_id": 1, "sampling": "{}", "reply": reply,
                         "thinking": reply, "prompt_tokens": 200, "completion_tokens": 150, "token_count": "usage",
                         "events": 150, "thinking_tokens": 0, "packed": False, "ttft_s": 0.1,
                         "answer_ttft_s": 0.1, "finished_s": 2.0, "decode_tps": 70.0, "stamps": stamps}
                    )  # fmt: skip
                    rows[schema.trial].append(
                        {"id": number, "candidate_id": candidate, "exercise_id": f"e{exercise}", "sample": sample,
                         "seed": sample, "outcome": outcome, "first_outcome": outcome, "score": float(passed),
                         "attempts": 1, "finished_at": 0.0}
                    )  # fmt: skip
                    rows[schema.attempt].append(
                        {"id": number, "trial_id": number, "number": 1, "turn": 1, "exchange_id": number,
                         "outcome": outcome, "score": float(passed), "files": files, "extraction": "{}", "fault": ""}
                    )  # fmt: skip
                    rows[schema.check_result].append(
                        {"attempt_id": number, "name": "c", "kind": "calls", "required": True, "weight": 1.0,
                         "passed": passed, "end": "finished", "cases_passed": 1, "cases_total": 2, "detail": "",
                         "wall_s": 0.1}
                    )  # fmt: skip
                if len(rows[schema.trial]) >= AT_ONCE:
                    flush(connection, rows)
            flush(connection, rows)

    record.write_all(write)
    record.close()


def flush(connection: sa.Connection, rows: dict[sa.Table, list[dict[str, object]]]) -> None:
    """Insert what is waiting, so that a million rows are not held at once."""
    for table, entries in rows.items():
        if entries:
            connection.execute(table.insert(), entries)
            entries.clear()


def timed(program: str, path: Path) -> tuple[float, str]:
    """Seconds of a fresh interpreter that runs a program on a record, and what it printed."""
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", program, str(path)], capture_output=True, text=True, check=True)
    return time.perf_counter() - began, done.stdout.strip()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--trials", type=int, default=100_000)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "record.db"
        write_record(path, args.trials)
        print(f"record: {path.stat().st_size / 2**20:.0f} MiB")
        bare_s, rows = timed(BARE.format(query=QUERY), path)
        ours_s, trials = timed(OURS, path)
        # the largest of the children so far: each is larger than the one before
        ours_mib = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        report_s, size = timed(REPORT, path)
        report_mib = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"bare read of {rows} rows: {bare_s:.2f} s")
    for what, seconds, mib in (("contrast and decide", ours_s, ours_mib), (f"report of {size}", report_s, report_mib)):
        print(f"{what}, {trials} trials: {seconds:.2f} s, {seconds / bare_s:.1f} times the bare read, {mib:.0f} MiB")


if __name__ == "__main__":
    main()
