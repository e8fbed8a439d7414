"""A large campaign in PostgreSQL: many writers at once, its size, and what compare and decide take; made-up rows.

python benchmarks/scale.py [--trials 1000000] [--writers 32] [--each 200]

Starts a private cluster on a socket. Ratios are against a file written by one writer, and a bare read, in the same run.
"""

import argparse
import os
import subprocess
import sys
import time
from pathlib import Path

import sqlalchemy as sa
from analysis import OURS, QUERY, timed, write_record

from kettlefield.record.store import Record

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from database import Cluster
from records import PASSED, Writer

WRITER = """\
import sys, time
sys.path.insert(0, sys.argv[4])
from pathlib import Path
from kettlefield.record.store import Record
from records import PASSED, Writer
place, number, count, logs = sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), Path(sys.argv[5])
writer = object.__new__(Writer)
writer.record, writer.names, writer.samples, writer.facts = Record.open(place), ["e0"], count, {}
ids = writer.candidate(f"m{number}@f16")
print("ready", flush=True)
sys.stdin.readline()
with writer.record.lock(rig=f"rig-{number}", logs=logs, say=print):
    for sample in range(1, count + 1):
        writer.trial(ids, 0, PASSED, sample=sample)
"""
BARE = """\
import sys, sqlalchemy as sa
with sa.create_engine(sys.argv[1].partition("#")[0]).connect() as connection:
    connection.exec_driver_sql("SET search_path = kettlefield_large")
    print(len(connection.exec_driver_sql({query!r}).fetchall()))
"""
PEAK = """\
import resource
print(round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024))
"""


def writers_at_once(place: str, writers: int, each: int, logs: Path) -> float:
    """Seconds that some processes take, each on a rig of its own, to write so many trials one by one."""
    tests = str(Path(__file__).parents[1] / "tests")
    runs = [
        subprocess.Popen(
            [sys.executable, "-c", WRITER, place, str(number), str(each), tests, str(logs)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env={**os.environ, "PYTHONWARNINGS": "ignore"},
        )
        for number in range(writers)
    ]  # fmt: skip
    for run in runs:
        assert run.stdout is not None
        assert run.stdout.readline() == "ready\n"
    began = time.perf_counter()
    for run in runs:
        assert run.stdin is not None
        run.stdin.write("go\n")
        run.stdin.close()
    for run in runs:
        assert run.wait() == 0
    return time.perf_counter() - began


def count(place: str | Path) -> int:
    """Trials that a record has."""
    record = Record.open(place)
    with record.reading() as connection:
        found = connection.execute(sa.text("SELECT count(*) FROM trial")).scalar_one()
    record.close()
    return int(found)


def file_rate(folder: Path, each: int) -> float:
    """Trials a second that one writer puts into a file."""
    writer = Writer(folder / "file.db", exercises=1, samples=each)
    ids = writer.candidate("m@f16")
    began = time.perf_counter()
    for sample in range(1, each + 1):
        writer.trial(ids, 0, PASSED, sample=sample)
    return each / (time.perf_counter() - began)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--trials", type=int, default=1_000_000)
    parser.add_argument("--writers", type=int, default=32)
    parser.add_argument("--each", type=int, default=200, help="trials of each writer")
    args = parser.parse_args()
    cluster = Cluster(durable=True)
    try:
        url = cluster.database("scale")
        one = file_rate(cluster.folder, args.each)
        print(f"one writer into a file: {one:.0f} trials/s")
        Writer(f"{url}#writers", exercises=1, samples=args.each).record.close()
        for writers in (1, args.writers):
            before = count(f"{url}#writers")
            seconds = writers_at_once(f"{url}#writers", writers, args.each, cluster.folder)
            rate = writers * args.each / seconds
            kept = count(f"{url}#writers") - before
            print(
                f"{writers} writers into PostgreSQL: {rate:.0f} trials/s, {rate / one:.2f} times the file; {kept} kept"
            )
            cluster.sql("TRUNCATE TABLE kettlefield_writers.candidate CASCADE", database="scale")
        began = time.perf_counter()
        write_record(f"{url}#large", args.trials)
        seconds = time.perf_counter() - began
        ((size,),) = cluster.sql("SELECT pg_database_size('scale')", database="scale")
        print(f"{args.trials:,} trials in bulk: {args.trials / seconds:,.0f} trials/s, {size / 2**20:,.0f} MiB")
        bare_s, rows = timed(BARE.format(query=QUERY), f"{url}#large")
        print(f"bare read of {rows} rows: {bare_s:.1f} s")
        ours_s, found = timed(OURS + PEAK, f"{url}#large")
        trials, mib = found.split()
        print(f"compare and decide, {int(trials):,} trials: {ours_s:.1f} s, {ours_s / bare_s:.1f} times, {mib} MiB")
    finally:
        cluster.remove()


if __name__ == "__main__":
    main()
