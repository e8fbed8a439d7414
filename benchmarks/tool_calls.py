"""Time that Kettlefield itself adds to a call of a tool, beside what the tool does; median and slowest.

    python benchmarks/tool_calls.py [--calls 200]

A session carries calls out on the largest built-in repository and keeps its conversation. Printed beside it is the same
work done by the tool's function alone on the same files, so that the difference does not hang on this machine.
"""

import argparse
import json
import time
from pathlib import Path

import numpy as np

from kettlefield.core.timing.timeline import Trace
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.server.exchange import Ask, Exchange, ToolCall
from kettlefield.suite.format import WorkspaceTable
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.workspace.session import Session
from kettlefield.workspace.tools import TOOLS
from kettlefield.workspace.tree import Tree


def reply(tool: str, number: int, given: dict[str, object]) -> Exchange:
    """A reply with one call."""
    return Exchange(
        ask=Ask(messages=(), sampling={}),
        asked_at=0.0,
        sent_s=0.0,
        concurrency=1,
        text="",
        thinking="",
        trace=Trace(
            stamps_s=(0.1,), thinking=(False,), finished_s=0.2, prompt_tokens=400 * (number + 1), completion_tokens=20
        ),
        finish_reason="tool_calls",
        tool_calls=(ToolCall(id=f"c{number}", name=tool, arguments=json.dumps(given)),),
    )


def main() -> int:
    """Print a line a tool."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--calls", type=int, default=200)
    count = parser.parse_args().calls
    suite = load_suite(CHECKS, find_suite("berthdesk-tickets", Path()))
    files = max((exercise.workspace for exercise in suite.exercises), key=lambda tree: sum(map(len, tree.values())))
    longest = max(files, key=lambda name: len(files[name]))
    given = {
        "list_files": {},
        "read_file": {"path": longest},
        "search": {"pattern": "Dunlin|turn"},
        "write_file": {"path": "new.txt", "content": "x" * 4000},
        "apply_patch": {"path": longest, "diff": _small_patch(files[longest])},
    }
    print(f"{len(files)} files, {sum(map(len, files.values())):,} characters, {count} calls each")
    for name, arguments in given.items():
        total, alone = [], []
        session = Session(
            tree=Tree(dict(files)),
            table=WorkspaceTable(turns=10**6, calls=10**6, tokens=10**9),
            tools=list(TOOLS.values()),
            form="functions",
            opening=[{"role": "user", "content": "Do it."}],
            context_tokens=10**7,
            reply_tokens=1000,
            run_command=lambda *_: "",
        )
        does = TOOLS[name].does
        for number in range(count):
            session.tree = Tree(dict(files))
            session.end = None
            exchange = reply(
                name, number, {**arguments, "path": arguments.get("path", ".")} if number % 2 else arguments
            )
            begun = time.perf_counter()
            session.take(exchange)
            total.append(time.perf_counter() - begun)
            tree = Tree(dict(files))
            begun = time.perf_counter()
            if does is not None:
                does(tree, arguments)
            alone.append(time.perf_counter() - begun)
        ours = 1000 * (np.array(total) - np.array(alone))
        print(
            f"{name:12} {1000 * np.median(total):8.3f} ms, the tool alone {1000 * np.median(alone):8.3f} ms, "
            f"ours at the median {np.median(ours):7.3f} ms, longest {ours.max():7.3f} ms"
        )
    return 0


def _small_patch(text: str) -> str:
    lines = text.splitlines()
    at = len(lines) // 2
    return f"@@ -{at + 1} +{at + 1} @@\n-{lines[at]}\n+{lines[at]} \n"


if __name__ == "__main__":
    raise SystemExit(main())
