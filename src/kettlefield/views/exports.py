"""A record handed on: CSV and Parquet with a data dictionary, JUnit-style XML, a CycloneDX bill of materials."""

import json
import re
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal
from xml.etree import ElementTree as ET

import msgspec
import pandas as pd
from cyclonedx.model import HashAlgorithm, HashType, Property
from cyclonedx.model.bom import Bom
from cyclonedx.model.component import Component, ComponentType
from cyclonedx.model.license import LicenseExpression
from cyclonedx.output import make_outputter
from cyclonedx.schema import OutputFormat, SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from kettlefield import __version__
from kettlefield.core.acceptance import Status, Verdict
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate, in_words
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.one_criterion import Judgement
from kettlefield.decision.provenance import Standing
from kettlefield.decision.verdict import CandidateVerdict, Decision
from kettlefield.record.entries import SignatureEntry
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts, trials_frame
from kettlefield.results.rows import exercise_rows
from kettlefield.results.speed import timed_frame

SCHEMA = SchemaVersion.V1_6


def candidate_bill(
    decision: Decision, verdict: CandidateVerdict, standing: Standing, signatures: tuple[SignatureEntry, ...]
) -> str:
    """The bill as JSON text, checked against the specification's own schema.

    Parameters
    ----------
    decision : Decision
        Of the record.
    verdict : CandidateVerdict
        The candidate's; it must be approved.
    standing : Standing
        What it was measured on.
    signatures : tuple of SignatureEntry
        The record's ledger, oldest first; may be empty.

    Raises
    ------
    InputError
        The candidate is not approved, or the document does not hold to the schema.
    """
    if verdict.verdict is not Verdict.APPROVED:
        raise InputError(
            f"is {verdict.verdict.value}, and a bill of materials is of what was approved",
            verdict.candidate,
            "`kettlefield decide` says why.",
        )
    bom = Bom()
    bom.metadata.timestamp = datetime.now(UTC)
    bom.metadata.tools.components.add(
        Component(type=ComponentType.APPLICATION, name="kettlefield", version=__version__)
    )
    bom.metadata.component = _component(decision, verdict, standing, signatures)
    document = json.loads(make_outputter(bom, OutputFormat.JSON, SCHEMA).output_as_string())
    # the library has no model card yet; the schema has
    document["metadata"]["component"]["modelCard"] = _model_card(decision, verdict)
    text = json.dumps(document, indent=2)
    fault = JsonStrictValidator(SCHEMA).validate_str(text)
    if fault is not None:
        raise InputError(
            f"makes no valid CycloneDX document ({fault.data.message})", verdict.candidate, "Please tell us."
        )
    return text + "\n"


def _component(
    decision: Decision, verdict: CandidateVerdict, standing: Standing, signatures: tuple[SignatureEntry, ...]
) -> Component:
    row = next(row for row in decision.table.rows if row.candidate == verdict.candidate)
    facts = {
        "level": row.level,
        "verdict": verdict.verdict.value,
        "simulated": str(decision.simulated).lower(),
        "rig": standing.rig.get("host", {}).get("cpu"),
        "server": standing.server_words,
        "suite": f"{standing.suite['name']} {standing.suite['digest']}",
        "signed-by": signatures[-1].signed_by if signatures else None,
        "signature": signatures[-1].digest if signatures else None,
    }
    properties = [Property(name=f"kettlefield:{name}", value=str(value)) for name, value in facts.items() if value]
    conditions = decision.conditions[verdict.candidate]
    properties += [
        Property(name=f"kettlefield:condition:{number}", value=words) for number, words in enumerate(conditions, 1)
    ]
    files = standing.weights.get("files") or []
    one_file = len(files) == 1
    return Component(
        type=ComponentType.MACHINE_LEARNING_MODEL,
        name=row.model,
        version=row.level,
        bom_ref=row.candidate,
        licenses=[LicenseExpression(row.licence)] if row.licence else [],
        hashes=[_hash(files[0]["sha256"])] if one_file else [],
        components=[] if one_file else [_file(file) for file in files],
        properties=properties,
    )


def _file(file: dict[str, Any]) -> Component:
    return Component(type=ComponentType.FILE, name=file["name"], hashes=[_hash(file["sha256"])])


def _hash(sha256: str) -> HashType:
    return HashType(alg=HashAlgorithm.SHA_256, content=sha256)


def _model_card(decision: Decision, verdict: CandidateVerdict) -> dict[str, Any]:
    metrics = []
    for judgement in verdict.judgements:
        figure = judgement.found
        if figure is None or isinstance(figure, str):
            continue
        metric: dict[str, Any] = {"type": f"{judgement.criterion.label}, wanted {judgement.criterion.wanted}"}
        if isinstance(figure, Estimate):
            metric["value"] = f"{figure.value:.6g}"
            bounds = {"lowerBound": figure.low, "upperBound": figure.high}
            metric["confidenceInterval"] = {name: f"{bound:.6g}" for name, bound in bounds.items() if bound is not None}
        else:
            metric["value"] = f"{figure:.6g}"
        metrics.append(metric)
    return {
        "modelParameters": {"task": "code generation"},
        "quantitativeAnalysis": {"performanceMetrics": metrics},
        "considerations": {"technicalLimitations": list(decision.conditions[verdict.candidate])},
    }


_NOT_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2


def criteria_xml(decision: Decision) -> str:
    """The document; a criterion that is not met is a failure, one that is undecided an error, never a success."""
    root = ET.Element("testsuites", name=_clean(decision.title))
    totals = dict.fromkeys(("tests", "failures", "errors"), 0)
    for verdict in decision.verdicts:
        counts = {
            "tests": len(verdict.judgements),
            "failures": sum(one.status is Status.NOT_MET for one in verdict.judgements),
            "errors": sum(one.status is Status.UNDECIDED for one in verdict.judgements),
        }
        suite = ET.SubElement(root, "testsuite", name=_clean(verdict.candidate))
        for name, count in counts.items():
            suite.set(name, str(count))
            totals[name] += count
        properties = ET.SubElement(suite, "properties")
        facts = {"verdict": verdict.verdict.value, "simulated": str(decision.simulated).lower()}
        for name, value in facts.items():
            ET.SubElement(properties, "property", name=name, value=value)
        for judgement in verdict.judgements:
            _add_case(suite, verdict.candidate, judgement)
    for name, count in totals.items():
        root.set(name, str(count))
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def _add_case(suite: ET.Element, candidate: str, judgement: Judgement) -> None:
    criterion = judgement.criterion
    name = f"{criterion.label} {criterion.wanted}"
    case = ET.SubElement(suite, "testcase", classname=_clean(candidate), name=_clean(name))
    said = f"found {in_words(judgement.found, MEASURES[criterion.measure].unit)}"
    if judgement.status is Status.NOT_MET:
        ET.SubElement(case, "failure", type="not met", message=_clean(said))
    elif judgement.status is Status.UNDECIDED:
        ET.SubElement(case, "error", type="undecided", message=_clean(f"{said}; {judgement.reason}"))
    else:
        ET.SubElement(case, "system-out").text = _clean(said)


def _clean(text: str) -> str:
    return _NOT_XML.sub("\N{REPLACEMENT CHARACTER}", text)


class Column(msgspec.Struct, frozen=True, kw_only=True):
    """One column of a table."""

    name: str
    unit: str  # empty: none
    meaning: str


def _columns(*rows: tuple[str, str, str]) -> tuple[Column, ...]:
    return tuple(Column(name=name, unit=unit, meaning=meaning) for name, unit, meaning in rows)


TRIALS = _columns(
    ("id", "", "number of the trial in the record"),
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("suite", "", "the exercise's suite, with its seed and selection"),
    ("exercise", "", "the exercise's id"),
    ("kind", "", "what it asks for: write, repair, extend ..."),
    ("language", "", "the language that it asks for"),
    ("difficulty", "", "1 (easy) to 5 (hard)"),
    ("topics", "", "divided by commas"),
    ("sample", "", "1, 2 ...: how often the exercise was asked"),
    ("seed", "", "sent with the request"),
    ("outcome", "", "how the trial ended, repair turns included; server-fault and rig-fault count against nobody"),
    ("first_outcome", "", "how it would have ended without repair turns"),
    ("score", "share", "weighted share of the checks that passed in the last attempt"),
    ("attempts", "", "requests that were graded: turns and repair turns"),
    ("concurrency", "requests", "most requests under way at once during the last attempt's"),
    ("prompt_tokens", "tokens", "of the last attempt's prompt, as the server counts"),
    ("completion_tokens", "tokens", "of its reply, thinking included"),
    ("thinking_tokens", "tokens", "of these, thinking"),
    ("ttft_s", "s", "request fully written until the first event with text"),
    ("answer_ttft_s", "s", "the same until the first that is not thinking"),
    ("decode_tps", "tokens/s", "(tokens - 1) / (last - first); beside others in flight, so no latency figure"),
    ("finished_s", "s", "request fully written until the reply's end"),
    ("finish_reason", "", "as the server gives it"),
)

SAMPLES = _columns(
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("purpose", "", "the procedure that timed it: latency, depth, system, uncached, cached, clients, arrivals, leak"),
    ("point", "", "what of the procedure, as JSON: lengths asked for, depth, number of clients, rate"),
    ("disturbed", "", "why this sample is disturbed; empty: it was not"),
    ("concurrency", "requests", "most requests under way at once"),
    ("scheduled_lag_s", "s", "sent this long after its scheduled moment; latency under a schedule counts from there"),
    ("prompt_tokens", "tokens", "as the server counts"),
    ("completion_tokens", "tokens", "as counted by token_count"),
    ("token_count", "", "usage: the server counted; events: we counted events with text"),
    ("events", "events", "with text"),
    ("packed", "", "several tokens an event"),
    ("ttft_s", "s", "request fully written until the first event with text"),
    ("decode_tps", "tokens/s", "(tokens - 1) / (last - first)"),
    ("prefill_tps", "tokens/s", "prompt tokens / ttft_s, uncached prompts only"),
    ("memory_bytes", "bytes", "host and accelerator together when the request ended"),
)

TABLES = {"trials": TRIALS, "samples": SAMPLES}


_FORMULA = ("=", "+", "-", "@")


def record_tables(record: Record) -> dict[str, pd.DataFrame]:
    """The tables of a record as `columns.TABLES` describes them, by name."""
    simulated = campaign_facts(record)["simulated"]
    exercises = pd.DataFrame(
        [
            {"exercise": one.id, **one.groups, "difficulty": one.difficulty, "topics": ",".join(one.topics)}
            for one in exercise_rows(record)
        ]
    )
    trials = trials_frame(record).merge(exercises, on="exercise", how="left")
    samples = timed_frame(record)
    samples = samples.assign(point=[json.dumps(point, sort_keys=True) for point in samples["point"]])
    frames = {"trials": trials.sort_values("id"), "samples": samples}
    return {
        name: frame.assign(simulated=simulated)[[column.name for column in TABLES[name]]]
        for name, frame in frames.items()
    }


def write_tables(record: Record, folder: Path, form: Literal["csv", "parquet"]) -> tuple[Path, ...]:
    """Write every table and the data dictionary into a folder; the paths written.

    In CSV a text that a spreadsheet would take for a formula is led by an apostrophe.

    Raises
    ------
    InputError
        Parquet is asked for and its package is not installed.
    """
    written = []
    for name, frame in record_tables(record).items():
        path = folder / f"{name}.{form}"
        if form == "csv":
            frame.map(_as_cell).to_csv(path, index=False, lineterminator="\n")
        else:
            _write_parquet(frame, path)
        written.append(path)
    rows = [
        {"table": name, "column": column.name, "unit": column.unit, "meaning": column.meaning}
        for name, columns in TABLES.items()
        for column in columns
    ]
    path = folder / "data-dictionary.csv"
    pd.DataFrame(rows).to_csv(path, index=False, lineterminator="\n")
    return (*written, path)


def _as_cell(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def _write_parquet(frame: pd.DataFrame, path: Path) -> None:
    try:
        frame.convert_dtypes().to_parquet(path, index=False)
    except ImportError as err:
        hint = "Install it: pip install 'kettlefield[parquet]'."
        raise InputError("Parquet needs the package pyarrow", "export --as parquet", hint) from err
