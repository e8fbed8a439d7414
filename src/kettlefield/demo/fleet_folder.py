"""The folder of the demo of a fleet: a plan for three made-up rigs, their simulated cards, and made-up weights."""

import json
from pathlib import Path

import msgspec

from kettlefield.demo.simulated_folder import candidate_table, claim_folder, weights_path
from kettlefield.demo.simulated_models import MODELS, write_weights
from kettlefield.record.place import Place

MODEL = "kelpling-400m"
LEVELS = ("q8_0", "q4_k_m")
CAMPAIGN = "which-level-on-which-machine"


class MadeUpRig(msgspec.Struct, frozen=True, kw_only=True):
    """A machine that does not exist."""

    name: str
    card: str
    memory_bytes: int  # of the card
    bandwidth_bytes_s: float
    budget: str  # as a plan writes it
    cost_per_hour: float


RIGS = (
    MadeUpRig(
        name="quay", card="Samphire SK-4", memory_bytes=4 * 2**30, bandwidth_bytes_s=960e9, budget="2 GiB",
        cost_per_hour=1.2,
    ),
    MadeUpRig(
        name="loft", card="Samphire SK-2", memory_bytes=2 * 2**30, bandwidth_bytes_s=320e9, budget="1400 MiB",
        cost_per_hour=0.4,
    ),
    MadeUpRig(
        name="attic", card="Samphire SK-1", memory_bytes=2**30, bandwidth_bytes_s=45e9, budget="1100 MiB",
        cost_per_hour=0.1,
    ),
)  # fmt: skip

CARD = """\
# a simulated accelerator: the simulated server keeps to these figures
name = "{card}"
memory_bytes = {memory_bytes}
bandwidth_bytes_s = {bandwidth_bytes_s:g}
compute_flops = 40e12
load_bytes_s = 3e9
busy_w = 72
"""

HEAD = """\
# Which level of a made-up model on which of three made-up machines? Everything that model and cards do is simulated;
# the database, the scheduler, its workers, servers, HTTP and grading are real.
title = "Which level on which machine?"
suite = "firstlight"
record = {record}

[campaign]
answers = "once"  # one rig is asked the suite; the others, whose servers are the same, are timed and take its answers
"""

RIG = """
[[rig]]
name = "{name}"
labels = ["{name}"]
accelerator = "simulated:{name}"
disturbed_above = 64.0  # cores: what is timed is simulated and waits
memory_budget = "{budget}"
cost_per_hour = {cost_per_hour}
"""

REST = """
[server]
command = ["{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "{rig}", "--port", "{port}",
           "--context", "{context}", "--level", "{level}", "--concurrency", "{concurrency}",
           "--suite", "firstlight"]
context = 2048
concurrency = 6
ready_within = "60 s"

[sampling]
temperature = 0.2
seed = 11
max_tokens = 950

[speed]
requests = 12
reply_tokens = 48

[memory]
idle_for = "0.2 s"
leak_requests = 0

[grading]
samples = 1
concurrent_trials = 6
"""

CRITERIA = """
[[criterion]]
measure = "pass_rate"
at_least = 0.4

[[criterion]]
measure = "ttft_s.p50"
at_most = "400 ms"

[[criterion]]
measure = "decode_tps.p50"
at_least = "300 tokens/s"
"""


def prepare_fleet_demo(folder: Path, record: Place) -> Path:
    """Write the demo's folder, its plan for a record in this place; the path of the plan.

    Raises
    ------
    InputError
        The folder holds something else.
    """
    plan = claim_folder(folder)
    for rig in RIGS:
        (folder / rig.name).mkdir(exist_ok=True)
        facts = {"card": rig.card, "memory_bytes": rig.memory_bytes, "bandwidth_bytes_s": rig.bandwidth_bytes_s}
        (folder / rig.name / "card.toml").write_text(CARD.format(**facts), encoding="utf-8")
    for level in LEVELS:
        path = folder / weights_path(MODEL, level)
        if not path.exists():
            write_weights(MODELS[MODEL], level, path)
    rigs = "".join(RIG.format(name=rig.name, budget=rig.budget, cost_per_hour=rig.cost_per_hour) for rig in RIGS)
    candidates = "".join(candidate_table(MODEL, level, reference=level == LEVELS[0]) for level in LEVELS)
    head = HEAD.format(record=json.dumps(str(record)))
    plan.write_text(head + rigs + REST + candidates + CRITERIA, encoding="utf-8")
    return plan
