"""A CycloneDX bill of materials of an approved candidate: weights, licence, level, measured figures, conditions."""

import json
from datetime import UTC, datetime
from typing import Any

from cyclonedx.model import HashAlgorithm, HashType, Property
from cyclonedx.model.bom import Bom
from cyclonedx.model.component import Component, ComponentType
from cyclonedx.model.license import LicenseExpression
from cyclonedx.output import make_outputter
from cyclonedx.schema import OutputFormat, SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from kettlefield import __version__
from kettlefield.core.acceptance import Verdict
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.decision.provenance import Standing
from kettlefield.decision.verdict import CandidateVerdict, Decision
from kettlefield.record.entries import SignatureEntry

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
        found = judgement.found
        if found is None or isinstance(found, str):
            continue
        metric: dict[str, Any] = {"type": f"{judgement.criterion.label}, wanted {judgement.criterion.wanted}"}
        if isinstance(found, Estimate):
            metric["value"] = f"{found.value:.6g}"
            bounds = {"lowerBound": found.low, "upperBound": found.high}
            metric["confidenceInterval"] = {name: f"{bound:.6g}" for name, bound in bounds.items() if bound is not None}
        else:
            metric["value"] = f"{found:.6g}"
        metrics.append(metric)
    return {
        "modelParameters": {"task": "code generation"},
        "quantitativeAnalysis": {"performanceMetrics": metrics},
        "considerations": {"technicalLimitations": list(decision.conditions[verdict.candidate])},
    }
