"""The demo's folder: a plan, a simulated card and made-up weights; and what both demos' folders share."""

from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.demo.simulated_models import LEVEL_TYPES, MODELS, write_weights


def claim_folder(folder: Path) -> Path:
    """Make a demo's folder with one for weights, or resume it; where its plan is or will be.

    Raises
    ------
    InputError
        The folder holds something else.
    """
    plan = folder / "plan.toml"
    if folder.exists() and not plan.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise InputError("exists and is not a demo", str(folder), "Name a new or empty folder.")
    (folder / "weights").mkdir(parents=True, exist_ok=True)
    return plan


def weights_path(model: str, level: str) -> str:
    """Where a level's file lies, from the folder."""
    return f"weights/{model}-{level}.gguf"


def candidate_table(model: str, level: str, *, reference: bool, more: str = "") -> str:
    """A candidate as a plan writes it; ``more`` is a further line."""
    lines = [f'\n[[candidate]]\nmodel = "{model}"\nlevel = "{level}"', f'weights = "{weights_path(model, level)}"']
    lines += ["reference = true  # the others of its model are compared with it"] if reference else []
    lines += [more] if more else []
    return "\n".join(lines) + "\n"


SOUGHT = "q4_k_m"  # the level whose capacity is sought
DEMO_BUDGET_BYTES = 2 * 2**30

CARD = """\
# a simulated accelerator: the simulated server keeps to these figures
name = "Samphire SK-4"
memory_bytes = 4_294_967_296
bandwidth_bytes_s = 960e9
compute_flops = 40e12
load_bytes_s = 3e9
busy_w = 72
"""

PLAN = """\
# A qualification of two made-up models for the berth desk of Saltmarsh Ferries.
# Everything that a model does here is simulated; servers, HTTP and grading are real.
title = "Which code model for the berth desk?"
suite = "berthdesk"
selection = "short"
record = "record.db"
conditions = ["for staff of the berth desk, inside its own network"]

[campaign]
until = "decided"  # each candidate stops as soon as its criteria are decided

[rig]
accelerator = "simulated:card"
disturbed_above = 64.0  # cores: what is timed here is simulated and waits; other work of the host hardly slows it down
memory_budget = "2 GiB"

[server]
command = ["{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "card",
           "--port", "{port}", "--context", "{context}", "--level", "{level}", "--concurrency", "{concurrency}",
           "--selection", "short", "--prompt-cache"]  # it knows the answers of what is asked above
context = 2048
concurrency = 6
ready_within = "60 s"

[sampling]
temperature = 0.2
seed = 11
max_tokens = 950

[marking]
weight = 0.2

[judge]
model = "sandwort-7b"
level = "q4_k_m"
weights = "weights/marram-1.2b-q4_k_m.gguf"
kinds = ["explain", "page", "write"]
pairs = 24
weight = 0.1

[judge.server]
command = ["{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "card",
           "--port", "{port}", "--context", "{context}", "--level", "{level}", "--concurrency", "{concurrency}",
           "--selection", "short", "--judge", "place=0.25,length=0.3,noise=0.1"]
context = 6144
concurrency = 4

[speed]
requests = 12
reply_tokens = 48
prompt_cache = 4

[speed.depth]
tokens = [256, 1792]
repeats = 6
floor = 500.0

[speed.closed_loop]
concurrency = [1, 2, 4, 8]
requests = 1

[memory]
idle_for = "0.3 s"
leak_requests = 6

[grading]
samples = 2
concurrent_trials = 6
"""

CRITERIA = """
# What would make a candidate acceptable - set before any result is seen.
[[criterion]]
measure = "pass_rate"
at_least = 0.5

[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.15

[[criterion]]
measure = "ttft_s.p50"
at_most = "150 ms"

[[criterion]]
measure = "decode_tps.p50"
at_least = "60 tokens/s"

[[criterion]]
measure = "decode_tps.p50"
at_depth = 1792
at_least = "60 tokens/s"
confidence = 0.85

[[criterion]]
measure = "escape_attempts"
at_most = 0

[[criterion]]
measure = "peak_bytes"
at_most = "2 GiB"
"""


TICKETS_NAME, TICKETS_RECORD = "tickets.toml", "tickets.db"
AT_WORK = ("kelpling-400m", "q4_k_m")  # it solves some of them
# the same weights on tickets in small repositories, with a longer context
TICKETS = """# Tickets in small repositories, worked on through tools. All is simulated but the work and its grading.
title = "Tickets of the berth desk"
suite = "berthdesk-tickets"
selection = "short"
record = "tickets.db"

[rig]
accelerator = "simulated:card"
disturbed_above = 64.0  # cores, as in plan.toml

[server]
command = ["{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "card", "--port", "{port}",
           "--context", "{context}", "--level", "{level}", "--suite", "berthdesk-tickets",
           "--selection", "short", "--prompt-cache"]
context = 16384
ready_within = "60 s"

[sampling]
temperature = 0.2
seed = 11
max_tokens = 4000

[speed]
requests = 0

[workspaces]
call_form = "auto"  # function calling where the server has it, else JSON blocks
edit_tools = ["write_file", "replace_text", "apply_patch"]

"""


def prepare_demo(folder: Path) -> Path:
    """Write what is missing of the demo's folder; the path of its plan.

    Raises
    ------
    InputError
        The folder holds something else.
    """
    plan = claim_folder(folder)
    (folder / "card").mkdir(exist_ok=True)
    (folder / "card" / "card.toml").write_text(CARD, encoding="utf-8")
    for model in MODELS.values():
        for level in LEVEL_TYPES:
            path = folder / weights_path(model.name, level)
            if not path.exists():
                write_weights(model, level, path)
    if not plan.exists():
        plan.write_text(PLAN + _candidates() + CRITERIA, encoding="utf-8")
    tickets = folder / TICKETS_NAME
    if not tickets.exists():
        tickets.write_text(TICKETS + candidate_table(*AT_WORK, reference=False), encoding="utf-8")
    return plan


def _candidates() -> str:
    sought = (
        'open_loop = { ttft = "250 ms", decode = 60.0, lasting = "1 s", tries = 5, requests_per_engineer_hour = 12 }'
    )
    first = next(iter(LEVEL_TYPES))  # the reference level; a load from the disk is timed of it alone
    more = {first: "cold_load = true", SOUGHT: sought}
    return "".join(
        candidate_table(model.name, level, reference=level == first, more=more.get(level, ""))
        for model in MODELS.values()
        for level in LEVEL_TYPES
    )
