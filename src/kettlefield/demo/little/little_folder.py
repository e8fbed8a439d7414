"""The folder of the real demo: a plan and six levels of the little model."""

from pathlib import Path

from kettlefield.demo.little.level_files import NAME, write_level
from kettlefield.demo.simulated_folder import candidate_table, claim_folder, weights_path

LEVELS_ASKED = ("f16", "q8_0", "q6_k", "q4_1", "q3_k_s", "q2_k")
BUDGET_BYTES, OVERHEAD_BYTES = 512 * 2**20, 45 * 2**20  # as the plan says them
SERVER = (
    "{python} -m kettlefield.demo.little --weights {weights} --port {port} --context {context}"
    " --concurrency {concurrency} --kv-bits {kv_bits}"
)

PLAN = """\
# A qualification of a real little model at six levels. Nothing is simulated: its weights were trained for this,
# they are quantised, loaded and run here, and what is measured is this machine.
title = "May a very small model sort the berth desk's lists?"
suite = "firstlight"
record = "record.db"
conditions = ["one to three plain steps a request"]

[rig]
accelerator = "none"
memory_budget = "512 MiB"

[server]
command = ["{python}", "-m", "kettlefield.demo.little", "--weights", "{weights}", "--port", "{port}",
           "--context", "{context}", "--concurrency", "{concurrency}", "--kv-bits", "{kv_bits}"]
context = 512
concurrency = 6
ready_within = "30 s"

[sampling]
temperature = 0.0
seed = 5
max_tokens = 160

[speed]
requests = 10
reply_tokens = 32

[speed.depth]
tokens = [64, 384]
repeats = 4

[speed.closed_loop]
concurrency = [1, 6]
requests = 2

[memory]
idle_for = "0.3 s"
overhead = "45 MiB"  # Python, NumPy and the HTTP server, whatever the weights

[grading]
samples = 1
concurrent_trials = 6
"""

CRITERIA = """
# What would make a level acceptable - set before any result is seen.
[[criterion]]
measure = "pass_rate"
at_least = 0.6

[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.1

[[criterion]]
measure = "ttft_s.p50"
at_most = "500 ms"

[[criterion]]
measure = "decode_tps.p50"
at_least = "50 tokens/s"

[[criterion]]
measure = "escape_attempts"
at_most = 0

[[criterion]]
measure = "peak_bytes"
at_most = "120 MiB"
"""


def prepare_real_demo(folder: Path) -> Path:
    """Write what is missing of the real demo's folder; the path of its plan.

    Raises
    ------
    InputError
        The folder holds something else, or the shipped weights are damaged.
    """
    plan = claim_folder(folder)
    for level in LEVELS_ASKED:
        path = folder / weights_path(NAME, level)
        if not path.exists():
            write_level(level, path)
    if not plan.exists():
        tables = (candidate_table(NAME, level, reference=level == LEVELS_ASKED[0]) for level in LEVELS_ASKED)
        plan.write_text(PLAN + "".join(tables) + CRITERIA, encoding="utf-8")
    return plan
