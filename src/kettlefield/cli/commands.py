"""The commands in the order of the work, each with its one line; a module of this package carries each out."""

COMMANDS = {
    "rig": "what this machine is, and what is missing",
    "weigh": "what weights files are, what memory they need, what fits",
    "draft": "draft a plan from weights files",
    "suite": "begin a suite of your own, add to it, list what a suite holds",
    "vet": "prove that a suite's answers pass and its decoys fail",
    "calibrate": "the instruments' own error on this machine",
    "qualify": "run a plan's campaign, or resume it",
    "compare": "candidates side by side; or an old record and a new one",
    "trials": "list trials, or open one: prompt, reply, files, checks, timings",
    "mark": "mark replies by hand, blind; in the terminal or on a sheet",
    "judge": "let a second model mark replies, and measure how far to trust it",
    "decide": "evaluate a record against its plan's criteria; sign; is it still valid?",
    "report": "one page with verdict, criteria, levels, correctness, speed, memory, evidence",
    "export": "hand a record on: CSV, Parquet, JUnit-style XML, CycloneDX",
    "demo": "run a full example: on made-up models, or --real on a real little one",
}
