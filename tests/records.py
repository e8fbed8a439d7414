"""A record written entry by entry, so that what is read back is known by hand."""

import contextlib
import hashlib

import msgspec

from kettlefield.core.outcome import CheckResult, Outcome, RunEnd
from kettlefield.core.timing.timeline import Trace
from kettlefield.record.entries import (
    AttemptEntry,
    CampaignEntry,
    CandidateEntry,
    ExchangeEntry,
    ExerciseEntry,
    MemoryEntry,
    ProcedureEntry,
    SessionEntry,
    TrialEntry,
)
from kettlefield.record.store import Record
from kettlefield.server.exchange import Ask, Exchange

PASSED, WRONG, FAULT = Outcome.PASSED, Outcome.WRONG_ANSWER, Outcome.SERVER_FAULT
PLAN = 'title = "t"\nsuite = "s"\nrecord = "r"\n[[candidate]]\nmodel = "m"\nlevel = "l"\n'


@contextlib.contextmanager
def editing(record):
    """A connection to change a record with, as somebody with another tool would."""
    record._known.clear()
    with record._engine.engine.begin() as connection:
        yield connection


class Writer:
    """Writes a record entry by entry."""

    def __init__(
        self,
        path,
        *,
        exercises=3,
        samples=1,
        criteria="",
        facts=None,
        kinds=(),
        rig=None,
        guidance=None,
        seeds=1,
        blocks=None,
    ):
        self.record = Record.create_or_open(path)
        self.path = path
        self.samples, self.facts = samples, facts or {}
        campaign = CampaignEntry(
            title="By hand", plan_text=PLAN + criteria, plan_digest=f"sha256:{hashlib.sha256((PLAN + criteria).encode()).hexdigest()}", plan_parts={}, suite_name="berthdesk",
            suite_digest="sha256:x", rig=rig or {"host": {}}, simulated=False,
            until="decided" if blocks else None,
        )  # fmt: skip
        # on several seeds: every exercise once for each, the variants of one beside each other
        self.names = [
            f"e{number}" + (f"-{seed}" if seeds > 1 else "") for number in range(exercises) for seed in range(seeds)
        ]
        kinds = [
            ExerciseEntry(
                id=n,
                title=n,
                kind=kinds[number] if kinds else "write",
                language="python",
                difficulty=1,
                topics=("tides",),
                suite=f"berthdesk, seed {number % seeds}" if seeds > 1 else "berthdesk",
                weight=1.0,
                varies=seeds > 1,
                guidance=guidance,
                suite_name="berthdesk" if seeds > 1 else None,
                suite_seed=number % seeds if seeds > 1 else None,
                own_id=f"e{number // seeds}" if seeds > 1 else None,
                block=number * blocks // len(self.names) + 1 if blocks else None,
            )
            for number, n in enumerate(self.names)
        ]
        self.record.begin(campaign, kinds)

    def candidate(self, name, *, description="server 1", speed=None, baseline=False, settings=None, **session_facts):
        model, _, level = name.partition("@")
        entry = CandidateEntry(
            name=name, model=model, level=level, reference=level == "f16", baseline=baseline, settings={"grading": {"samples": self.samples}, "speed": speed or {}, **(settings or {})},
            weights_path="w", weights_bytes=500, weights_sha256="ab", weights_facts=self.facts,
        )  # fmt: skip
        found = self.record.put_candidate(entry)
        session = SessionEntry(
            candidate_id=found,
            command=("run",),
            url="http://x",
            description=description,
            load_s=1.5,
            baseline_bytes=0,
            **session_facts,
        )
        return found, self.record.begin_session(session)

    def exchange(
        self,
        ids,
        *,
        stamps=(0.1, 0.2, 0.3),
        tokens=None,
        purpose="answer",
        concurrency=1,
        fault=None,
        finished=0.5,
        reply="B1",
    ):
        trace = Trace(stamps_s=stamps, thinking=(False,) * len(stamps), finished_s=finished, completion_tokens=tokens)
        ask = Ask(messages=({"role": "user", "content": "berth?"},), sampling={"seed": 1})
        exchange = Exchange(
            ask=ask, asked_at=0.0, sent_s=0.0, concurrency=concurrency, text=reply, thinking="", trace=trace,
            finish_reason="stop", fault=fault,
        )  # fmt: skip
        return ExchangeEntry(exchange=exchange, candidate_id=ids[0], session_id=ids[1], purpose=purpose)

    def trial(self, ids, exercise, *outcomes, sample=1, detail="why", end="finished", code="x", pictures=(), **options):
        check = CheckResult(
            name="c", kind="calls", required=True, weight=1.0, passed=outcomes[-1] is PASSED, end=RunEnd(end),
            cases_passed=1, cases_total=2, detail=detail, wall_s=0.1,
        )  # fmt: skip
        attempts = tuple(
            AttemptEntry(
                turn=1, language="python", exchange=None if outcome is FAULT else self.exchange(ids, **options), outcome=outcome,
                score=float(outcome is PASSED), files={"answer.py": code}, how="the only block", remarks=("r",), fault="",
                checks=(check,), pictures=pictures,
            )
            for outcome in outcomes
        )  # fmt: skip
        entry = TrialEntry(
            candidate_id=ids[0], exercise_id=self.names[exercise], sample=sample, seed=sample, attempts=attempts
        )
        self.record.save_trial(entry)

    def memory(self, ids, phase, host, card):
        entry = MemoryEntry(
            session_id=ids[1], phase=phase, samples=1, host_peak_bytes=host, accelerator_peak_bytes=card,
            peak_bytes=host + card - 5, end_bytes=host, mapped_peak_bytes=0, energy_j=None, energy_from=None,
            series=b"",
        )  # fmt: skip
        self.record.save_memory(entry)

    def timed(self, ids, purpose, point, *, first=0.1, rate=100.0, tokens=11, prompt=None, memory=None, **more):
        stamps = tuple(first + n / rate for n in range(tokens))
        entry = self.exchange(ids, stamps=stamps, tokens=more.pop("counted", tokens), purpose=purpose)
        trace = msgspec.structs.replace(entry.exchange.trace, prompt_tokens=prompt)
        if more.pop("counts_nothing", False):
            trace = msgspec.structs.replace(trace, completion_tokens=None)
        fault = more.pop("fault", None)
        exchange = msgspec.structs.replace(entry.exchange, trace=trace, fault=fault)
        self.record.save_exchange(
            msgspec.structs.replace(entry, exchange=exchange, point=point, memory_bytes=memory, **more)
        )

    def ended(self, ids, name, why="done", **facts):
        self.record.save_procedure(
            ProcedureEntry(candidate_id=ids[0], session_id=ids[1], name=name, why_ended=why, facts=facts)
        )

    def phase(self, ids, name, peak, *, joules=None, concurrency=None):
        self.record.save_memory(
            MemoryEntry(
                session_id=ids[1], phase=name, concurrency=concurrency, samples=1, host_peak_bytes=10, accelerator_peak_bytes=peak - 10,
                peak_bytes=peak, end_bytes=peak - 1, mapped_peak_bytes=4, energy_j=joules,
                energy_from="a meter" if joules is not None else None, series=b"",
            )
        )  # fmt: skip
