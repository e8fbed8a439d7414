"""What is handed on: bills of several files, XML of odd characters, Parquet without its package, verdicts at any width."""

import json
from xml.etree import ElementTree as ET

import pandas as pd
import pytest
from records import PASSED, WRONG, Writer

from kettlefield.cli.main import main
from kettlefield.core.errors import InputError
from kettlefield.decision.ledger import sign
from kettlefield.decision.provenance import standings
from kettlefield.plan.criteria import decide
from kettlefield.record.signed_rows import signatures
from kettlefield.views.exports import candidate_bill, criteria_xml, write_tables

CRITERIA = (
    '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.5\n[[criterion]]\nmeasure = "peak_bytes"\nat_most = "1 GiB"\n'
)


def approved(path, *, name="m@f16", facts=None):
    """A record of one candidate that meets its criteria."""
    writer = Writer(path / "record.db", exercises=20, criteria=CRITERIA, facts=facts or {})
    ids = writer.candidate(name, settings={"server": {"context": 2048, "kv_bits": 8}})
    for exercise in range(20):
        writer.trial(ids, exercise, PASSED)
    writer.memory(ids, "answers", 1000, 0)
    return writer


def bill_of(writer):
    decision = decide(writer.record)
    (verdict,) = decision.verdicts
    ledger = signatures(writer.record)
    return json.loads(candidate_bill(decision, verdict, standings(writer.record)[verdict.candidate], ledger))


def test_of_several_files_each_has_its_own_digest(tmp_path):
    shards = [{"name": f"m-0000{n}-of-00002.gguf", "bytes": 5, "sha256": str(n) * 64} for n in (1, 2)]
    component = bill_of(approved(tmp_path, facts={"files": shards}))["metadata"]["component"]
    assert "hashes" not in component and "licenses" not in component
    assert {(one["name"], one["type"], one["hashes"][0]["content"]) for one in component["components"]} == {
        (shard["name"], "file", shard["sha256"]) for shard in shards
    }


def test_a_bill_says_level_conditions_and_who_signed(tmp_path):
    writer = approved(tmp_path, facts={"licence": "Apache-2.0 OR MIT"})
    entry = sign(writer.record, by="R. Tern", note="", verdicts={"m@f16": "approved"})
    component = bill_of(writer)["metadata"]["component"]
    known = {one["name"]: one["value"] for one in component["properties"]}
    assert (component["version"], known["kettlefield:level"], known["kettlefield:simulated"]) == ("f16", "f16", "false")
    assert known["kettlefield:signed-by"] == "R. Tern" and known["kettlefield:signature"] == entry.digest
    assert known["kettlefield:condition:1"] == "context at most 2,048 tokens, KV cache at 8 bits"
    assert component["modelCard"]["considerations"]["technicalLimitations"] == [known["kettlefield:condition:1"]]
    assert component["licenses"] == [{"expression": "Apache-2.0 OR MIT"}]


@pytest.mark.parametrize("name", ["m<b>&@f16", "m\x1b[31m\x00@f16", "m\ud800@f16", "\N{RIGHT-TO-LEFT OVERRIDE}m@f16"])
def test_xml_holds_whatever_a_name_holds(tmp_path, name):
    decision = decide(approved(tmp_path, name=name.replace("\ud800", "")).record)
    root = ET.fromstring(criteria_xml(decision))
    assert len(root.findall(".//testcase")) == 2
    shown = root.find("testsuite").get("name")
    assert shown.endswith("@f16") and not set(shown) & {"\x1b", "\x00"}


def test_parquet_without_its_package_says_what_installs_it(tmp_path, monkeypatch):
    writer = approved(tmp_path)

    def missing(*_, **__):
        raise ImportError("as pandas says where neither package is installed")

    monkeypatch.setattr(pd.DataFrame, "to_parquet", missing)
    with pytest.raises(InputError, match=r"pip install 'kettlefield\[parquet\]'"):
        write_tables(writer.record, tmp_path, "parquet")


@pytest.mark.parametrize("columns", ["80", "120", "200"])
def test_verdicts_are_a_table_in_parts_where_there_is_no_room(tmp_path, capsys, monkeypatch, columns):
    writer = approved(tmp_path)
    ids = writer.candidate("m@q2_k")
    for exercise in range(20):
        writer.trial(ids, exercise, WRONG)
    monkeypatch.setenv("COLUMNS", columns)
    assert main(["decide", str(writer.path)]) == 0
    out = capsys.readouterr().out
    assert max(map(len, out.splitlines())) <= int(columns)
    assert out.count("found (one-sided bounds)") == 2
    for words in (
        "pass_rate",
        "at least 0.5",
        "0.00 (0.00 to 0.12), n = 20",
        "not met",
        "approved: m@f16",
        "rejected: m@q2_k",
    ):
        assert words in out
    assert "it needs a server that the plan starts" in " ".join(out.split())
