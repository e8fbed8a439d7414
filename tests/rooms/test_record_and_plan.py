"""The record keeps what it is given; the plan refuses what it cannot mean."""

import sqlite3

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.errors import InputError
from kettlefield.core.renames import PLAN_KEYS
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.checks.function_calls import CallCase
from kettlefield.grading.checks.programs import ProgramCase
from kettlefield.measure.settings import ClosedLoopTable, DepthTable, OpenLoopTable
from kettlefield.plan.plan import read_plan, select
from kettlefield.record import packing, schema
from kettlefield.record.store import Record


@given(st.lists(st.floats(0, 1e5), max_size=200).map(sorted), st.randoms())
def test_stamps_come_back_to_the_microsecond(stamps, rng):
    marks = tuple(rng.random() < 0.5 for _ in stamps)
    found, found_marks = packing.unpack_stamps(packing.pack_stamps(tuple(stamps), marks))
    assert np.allclose(found, stamps, atol=1e-6, rtol=0)
    assert tuple(found_marks) == marks


def test_an_even_stream_packs_far_below_a_row_a_token():
    blob = packing.pack_stamps(tuple(i * 0.02 for i in range(2000)), (False,) * 2000)
    assert len(blob) < 200


@given(st.text(), st.lists(st.lists(st.integers(-(2**60), 2**60), min_size=3, max_size=3), min_size=1))
def test_texts_and_series_come_back_whole(text, rows):
    assert packing.unpack_text(packing.pack_text(text)) == text
    assert packing.unpack_series(packing.pack_series(np.array(rows))).tolist() == rows


def test_a_newer_record_is_refused_and_left_alone(tmp_path):
    path = tmp_path / "record.db"
    Record.create_or_open(path).close()
    with sqlite3.connect(path) as connection:
        connection.execute("UPDATE alembic_version SET version_num = ?", [str(schema.FORMAT + 1)])
    connection.close()
    before = path.read_bytes()
    with pytest.raises(InputError, match=f"format {schema.FORMAT + 1}.*newer"):
        Record.open(path)
    assert path.read_bytes() == before


@pytest.mark.parametrize("content", [b"", b"hello", b"SQLite format 3\0" + b"\0" * 200])
def test_what_is_no_record_is_refused(tmp_path, content):
    path = tmp_path / "record.db"
    path.write_bytes(content)
    with pytest.raises(InputError, match="not a Kettlefield record"):
        Record.open(path)


def test_another_database_and_a_missing_file_are_refused(tmp_path):
    with sqlite3.connect(tmp_path / "other.db") as connection:
        connection.execute("CREATE TABLE tides (minute INTEGER)")
    connection.close()
    with pytest.raises(InputError, match="not a Kettlefield record"):
        Record.open(tmp_path / "other.db")
    with pytest.raises(InputError, match="no such record"):
        Record.open(tmp_path / "absent.db")


def test_a_record_is_held_by_one_run(tmp_path):
    first, second = Record.create_or_open(tmp_path / "r.db"), Record.create_or_open(tmp_path / "r.db")
    with first.lock(), pytest.raises(InputError, match="another run is using it"), second.lock():
        pass
    with second.lock():
        pass


PLAN_FAULTS = [
    # (text to replace, replacement, place, words)
    ("[sampling]", "[smapling]", "plan.toml", 'unknown key "smapling". Did you mean "sampling"?'),
    ("max_tokens = 700", "max_token = 700", "[sampling]", 'unknown key "max_token". Did you mean "max_tokens"?'),
    ("max_tokens = 700", 'max_tokens = "many"', "[sampling] max_tokens", "expected `int`"),
    ("max_tokens = 700", "max_tokens = 0", "[candidate 1]", "max_tokens is 0"),
    ("max_tokens = 700", "top_p = 1.5", "[candidate 1]", "top_p is 1.5"),
    ("ready_within = '30 s'", "ready_within = 30", "[server] ready_within", "has no unit"),
    ("ready_within = '30 s'", "ready_within = '30 parsecs'", "[server] ready_within", "30 parsecs"),
    ('title = "Test"', "", "plan.toml", "missing required field `title`"),
    ('title = "Test"', 'title = "Test', "plan.toml", "not valid TOML"),
    ('level = "q4_k_m"', 'level = "q4 k m"', "[candidate 1]", 'level is "q4 k m"'),
    (".gguf", ".guf", "[candidate 1]", "there is no weights file"),
    ('weights = "', '#weights = "', "[candidate 1]", "weights is missing"),
    (
        'weights = "',
        'url = "http://a:1"\ncommand = ["a"]\nweights = "',
        "[candidate 1]",
        "both a server command and a url",
    ),
    ('weights = "', 'key_from = "KEY"\nweights = "', "[candidate 1]", "a key_from without a url"),
    ('weights = "', 'baseline = true\nreference = true\nweights = "', "[candidate 1]", "both baseline and reference"),
    ("command = [", "#command = [", "[candidate 1]", "neither a server command nor a url"),
    ("[[candidate]]", "[[candidates]]", "plan.toml", 'Did you mean "candidate"?'),
    ('model = "', 'reference = 3\nmodel = "', "[candidate 1] reference", "expected `bool`"),
]


@pytest.mark.parametrize(("before", "after", "place", "words"), PLAN_FAULTS, ids=[case[1][:24] for case in PLAN_FAULTS])
def test_a_faulty_plan_is_refused_with_place_and_remedy(make_plan, before, after, place, words):
    plan = make_plan()
    text = plan.read_text()
    assert before in text
    plan.write_text(text.replace(before, after))
    with pytest.raises(InputError) as caught:
        read_plan(plan)
    assert place in caught.value.where
    assert words in f"{caught.value.what}. {caught.value.hint}"


@pytest.mark.parametrize(
    ("table", "keys"),
    [(table, keys) for table, keys in PLAN_KEYS.items() if table],
    ids=[name for name in PLAN_KEYS if name],
)
def test_an_old_key_is_refused_with_its_new_name(make_plan, table, keys):
    for old, new in keys.items():
        plan = make_plan(tables={table: f"{old} = 1"} if table not in {"server", "prompting"} else {})
        if table in {"server", "prompting"}:
            plan.write_text(plan.read_text().replace("[[candidate]]", f"[[candidate]]\n{old} = 1", 1))
        with pytest.raises(InputError, match=f'unknown key "{old}". It is called "{new}" now'):
            read_plan(plan)


@pytest.mark.parametrize(
    ("criterion", "words"),
    [
        ('measure = "pass_rat"\nat_least = 0.5', 'Did you mean "pass_rate"?'),
        ('measure = "first_token_s.p95"\nat_most = "1 s"', 'is called "ttft_s.p95" now'),
        ('measure = "pass_rate"', "exactly one of at_least and at_most"),
        ('measure = "pass_rate"\nat_least = 1.5', "share from 0 to 1"),
        ('measure = "peak_bytes"\nat_most = 12', "has no unit"),
        ('measure = "ttft_s.p95"\nat_most = "3 GiB"', "a duration"),
        ('measure = "decode_tps.p50"\nat_least = "40 tok"', "40 tokens/s"),
        ('measure = "pass_rate"\nat_least = 0.5\nconfidence = 95', "confidence is 95"),
        ('measure = "pass_rate"\nno_worse_than = "reference"', "margin is None"),
        ('measure = "pass_rate"\nmargin = 0.1', "mixes a margin with a threshold"),
        ('measure = "pass_rate"\nno_worse_than = "reference"\nmargin = 0.1\nat_least = 0.5', "mixes a margin"),
        ('measure = "peak_bytes"\nno_worse_than = "reference"\nmargin = 0.1', "not for peak_bytes"),
    ],
)
def test_a_faulty_criterion_is_refused(make_plan, criterion, words):
    with pytest.raises(InputError) as caught:
        read_plan(make_plan(criteria=f"[[criterion]]\n{criterion}\n"))
    assert words.lower() in str(caught.value).lower()


def test_a_plan_is_resolved_with_each_candidates_overrides(make_plan):
    plan = read_plan(
        make_plan(
            candidates=(("f16", "reference = true"), ("q2_k", "max_tokens = 50\ncontext = 99\nsamples = 3")),
            criteria='[[criterion]]\nmeasure = "peak_bytes"\nat_most = "1 GiB"\n',
        )
    )
    first, second = plan.candidates
    assert (first.name, first.reference, first.sampling.max_tokens) == ("kelpling-400m@f16", True, 700)
    assert (second.sampling.max_tokens, second.server.context, second.grading.samples) == (50, 99, 3)
    assert plan.criteria[0].threshold.at_most == 2**30
    assert second.settings()["server"]["ready_within"] == 30.0


def test_only_selects_candidates_or_exercises_by_pattern(make_plan):
    plan = read_plan(make_plan(candidates=(("f16", ""), ("q2_k", ""))))
    assert select(plan, "*@q2_k", ["a", "b"]) == ({"kelpling-400m@q2_k"}, {"a", "b"})
    assert select(plan, "b*", ["a", "b"]) == ({"kelpling-400m@f16", "kelpling-400m@q2_k"}, {"b"})
    with pytest.raises(InputError, match="matches nothing"):
        select(plan, "zzz", ["a"])


@pytest.mark.parametrize("doubled", ['level = "f16"', "reference"])
def test_what_must_be_single_is_single(make_plan, doubled):
    if doubled == "reference":
        plan = make_plan(candidates=(("f16", "reference = true"), ("q2_k", "reference = true")))
    else:
        plan = make_plan(candidates=(("f16", ""), ("f16", "")))
    with pytest.raises(InputError, match="twice|two reference"):
        read_plan(plan)


def test_the_reference_names_every_key_of_the_plan_and_every_table_of_the_record():
    from pathlib import Path

    import msgspec

    from kettlefield.decision.measures import MEASURES
    from kettlefield.plan import tables
    from kettlefield.suite import format as fmt

    folder = Path(__file__).parents[2] / "docs" / "reference"
    plan, exercise, record = ((folder / f"{name}.md").read_text() for name in ("plan", "exercise", "record"))
    nested = {"depth": DepthTable, "closed_loop": ClosedLoopTable, "open_loop": OpenLoopTable}
    assert all(f"`[speed.{name}]`" in plan for name in nested)
    structs = [
        tables.NamedRigTable,
        tables.CampaignTable,
        *tables.OVERRIDABLE.values(),
        tables.CriterionTable,
        tables.PlanFile,
        tables.SuiteTable,
    ]
    structs += [tables.MarkingTable, tables.JudgeTable, *nested.values()]
    keys = {field.name for table in structs for field in msgspec.structs.fields(table)}
    for key in (
        (keys | set(MEASURES))
        - {"candidate", "criterion"}
        - set(tables.OVERRIDABLE)
        - {"rig", "campaign", "marking", "judge", *nested}
    ):
        assert f"`{key}`" in plan, key
    structs = [
        fmt.ExerciseFile,
        fmt.Limits,
        fmt.Decoy,
        fmt.Claim,
        CallCase,
        ProgramCase,
        *(kind.spec for kind in CHECKS.values()),
    ]
    for key in {field.name for table in structs for field in msgspec.structs.fields(table)} - {
        "check",
        "decoy",
        "claim",
    }:
        assert f"`{key}`" in exercise or f'"{key}"' in exercise, key
    for table in schema.metadata.tables:
        assert f"`{table}`" in record or table == "meta", table


@pytest.mark.parametrize(
    ("table", "body", "said"),
    [
        ("rig", "blocks = 0", "blocks is 0"),
        ("memory", 'sample_every = "1 us"', "sample_every is 1e-06"),
        ("speed", '[speed.open_loop]\nttft = "1 us"', "open_loop.ttft is 1e-06"),
        ("speed", '[speed.open_loop]\nlasting = "1 ms"', "open_loop.lasting is 0.001"),
        ("speed", "[speed.depth]\ntokens = [0]", "depth.tokens is 0"),
        ("speed", "[speed.closed_loop]\nconcurrency = [0]", "closed_loop.concurrency is 0"),
        ("speed", "reply_tokens = [64, 1]", "reply_tokens is 1"),
        ("speed", "precision = 1.5", "precision is 1.5"),
        ("speed", "[speed.depths]\ntokens = [1]", 'Did you mean "depth"?'),
    ],
)
def test_a_measurement_that_cannot_be_made_is_refused_before_anything_runs(make_plan, table, body, said):
    with pytest.raises(InputError) as caught:
        read_plan(make_plan(tables={table: body}))
    assert said in str(caught.value)
