"""Criteria as JUnit-style XML, which CI servers show: one suite a candidate, one case a criterion."""

import re
from xml.etree import ElementTree as ET

from kettlefield.core.acceptance import Status
from kettlefield.core.statistics.estimate import in_words
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.verdict import Decision, Judgement

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
    found = f"found {in_words(judgement.found, MEASURES[criterion.measure].unit)}"
    if judgement.status is Status.NOT_MET:
        ET.SubElement(case, "failure", type="not met", message=_clean(found))
    elif judgement.status is Status.UNDECIDED:
        ET.SubElement(case, "error", type="undecided", message=_clean(f"{found}; {judgement.reason}"))
    else:
        ET.SubElement(case, "system-out").text = _clean(found)


def _clean(text: str) -> str:
    return _NOT_XML.sub("\N{REPLACEMENT CHARACTER}", text)
