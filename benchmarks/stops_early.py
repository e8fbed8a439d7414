"""Whether a campaign that stops when it is decided ends with the verdicts of one that asks everything.

For each seed a campaign of the simulated models runs until it is decided; then the same record is completed, and
the verdicts of one look at everything are put beside those of the looks. A decision that differs, other than that one
of the two is undecided, is counted apart. Servers and models are simulated, grading is real.

    python benchmarks/stops_early.py [--seeds 20]
"""

import argparse
import shutil
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

import kettlefield
from kettlefield.core.acceptance import Verdict, reach_verdict
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.one_criterion import judge_criterion
from kettlefield.decision.verdict import reach_verdicts
from kettlefield.demo.simulated_folder import CARD, candidate_table, weights_path
from kettlefield.demo.simulated_models import MODELS, write_weights
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.store import Record
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts, trials_frame

BUILT_IN = Path(kettlefield.__file__).parent / "suites" / "berthdesk"
LEVELS = ("f16", "q8_0", "q4_k_m", "q2_k")
PLAN = """
title = "stops early"
suite = "berthdesk"
record = "record.db"
[campaign]
until = "decided"
[rig]
accelerator = "simulated:card"
disturbed_above = 64.0
[server]
command = ["{{python}}", "-m", "kettlefield.demo", "--weights", "{{weights}}", "--card", "card", "--port", "{{port}}",
           "--context", "{{context}}", "--level", "{{level}}", "--concurrency", "{{concurrency}}"]
context = 2048
concurrency = 6
[sampling]
seed = {seed}
max_tokens = 700
[speed]
requests = 0
[grading]
samples = 1
concurrent_trials = 6
"""
MOST = 48  # exercises: in Python alone, whose grading takes least
CRITERIA = """
[[criterion]]
measure = "pass_rate"
at_least = 0.5
[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.25
"""


def prepare(folder: Path, seed: int, model: str) -> Path:
    """A folder with weights, a fast card and a plan of one seed."""
    (folder / "card").mkdir(parents=True)
    fast = CARD.replace("960e9", "4e12").replace("load_bytes_s = 3e9", "load_bytes_s = 100e9")
    (folder / "card" / "card.toml").write_text(fast, encoding="utf-8")
    (folder / "weights").mkdir()
    suite = folder / "berthdesk"  # a suite beside the plan comes before the built-in one
    suite.mkdir()
    shutil.copy(BUILT_IN / "suite.toml", suite)
    chosen = [path.parent for path in sorted(BUILT_IN.glob("*/exercise.toml")) if is_plain(path)][:MOST]
    for exercise in chosen:
        shutil.copytree(exercise, suite / exercise.name)
    for level in LEVELS:
        write_weights(MODELS[model], level, folder / weights_path(model, level))
    tables = "".join(candidate_table(model, level, reference=level == "f16") for level in LEVELS)
    plan = folder / "plan.toml"
    plan.write_text(PLAN.format(seed=seed) + tables + CRITERIA, encoding="utf-8")
    return plan


def is_plain(path: Path) -> bool:
    """Whether an exercise is a small one to write or repair in Python."""
    spec = tomllib.loads(path.read_text(encoding="utf-8"))
    return spec["language"] == "python" and spec["kind"] in {"write", "repair", "extend"}


def run(plan: Path, *words: str) -> None:
    """Run the installed program."""
    command = [str(Path(sys.executable).with_name("kettlefield")), "qualify", str(plan), *words]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr)


def verdicts(path: Path) -> tuple[dict[str, Verdict], dict[str, Verdict], dict[str, int]]:
    """By the looks, by one look at everything that is there, and how many trials there are of each candidate."""
    record = Record.open(path)
    terms = terms_of_text(campaign_facts(record)["plan_text"], path)
    table = compare(record)
    evidence = Evidence(record, table.trials, terms.weights)
    looked = {one.candidate: one.verdict for one in reach_verdicts(record, table, terms.criteria, terms.weights)}
    once = {
        row.candidate: reach_verdict([judge_criterion(evidence, row, one).status for one in terms.criteria])
        for row in table.rows
    }
    counts = trials_frame(record)["candidate"].value_counts()
    return looked, once, {name: int(count) for name, count in counts.items()}


def main() -> None:
    """Print a line a seed, then the sums."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seeds", type=int, default=20)
    parser.add_argument("--first", type=int, default=1, help="the first seed")
    parser.add_argument("--model", default="kelpling-400m", choices=tuple(MODELS))
    args = parser.parse_args()
    same = opposite = open_by_looks = open_at_once = asked = planned = 0
    for seed in range(args.first, args.first + args.seeds):
        with tempfile.TemporaryDirectory() as folder:
            plan = prepare(Path(folder) / "campaign", seed, args.model)
            run(plan)
            record = plan.parent / "record.db"
            looked, _, counts = verdicts(record)
            run(plan, "--complete")
            _, once, everything = verdicts(record)
        asked, planned = asked + sum(counts.values()), planned + sum(everything.values())
        for name, verdict in looked.items():
            same += verdict is once[name]
            pair = {verdict, once[name]}
            opposite += pair == {Verdict.APPROVED, Verdict.REJECTED}
            open_by_looks += verdict is Verdict.UNDECIDED and once[name] is not Verdict.UNDECIDED
            open_at_once += verdict is not Verdict.UNDECIDED and once[name] is Verdict.UNDECIDED
        told = ", ".join(
            f"{name.partition('@')[2]} {verdict.value}{'' if verdict is once[name] else f' ({once[name].value})'} "
            f"{counts[name]}/{everything[name]}"
            for name, verdict in looked.items()
        )
        print(f"seed {seed:2}: {told}", flush=True)
    total = args.seeds * len(LEVELS)
    print(
        f"verdicts the same: {same} of {total}; opposite: {opposite}; undecided by the "
        f"looks alone: {open_by_looks}, by one look alone: {open_at_once}; trials asked: {asked} of {planned}, "
        f"{asked / planned:.0%}"
    )


if __name__ == "__main__":
    main()
