"""Write docs/berthdesk.md: what the built-in suite asks, from the suite itself.

python scripts/suite_table.py [--check]
"""

import argparse
import sys
from collections import Counter
from pathlib import Path

from kettlefield.suite.format import KINDS, Suite
from kettlefield.suite.loader import find_suite, load_suite

TARGET = Path(__file__).parents[1] / "docs" / "berthdesk.md"


def page(suite: Suite) -> str:
    """The page as Markdown."""
    exercises = suite.exercises
    kinds = Counter(exercise.spec.kind for exercise in exercises)
    languages = Counter(exercise.spec.language for exercise in exercises)
    short = sum(exercise.spec.short for exercise in exercises)
    varying = sum(bool(exercise.spec.vary) for exercise in exercises)
    counted = {
        "Kinds": [f"{kind} {kinds[kind]}" for kind in KINDS],
        "Languages": [f"{name} {count}" for name, count in languages.most_common()],
    }
    lines = [
        "# The built-in suite `berthdesk`",
        "",
        "Made by `scripts/suite_table.py` from the suite; a test keeps it true.",
        "",
        f"{len(exercises)} exercises from the daily work of Saltmarsh Ferries, a made-up company; {short} of them",
        f"(*) are the short selection, {varying} (~) draw variants from a seed. Each has its own answer, at least two",
        "decoys with the mistake that they stand for, and cases worked by hand from the prompt.",
        "",
        *(line for name, parts in counted.items() for line in (f"{name}: {', '.join(parts)}.", "")),
        "| exercise | kind | language | difficulty | what it finds out |",
        "| --- | --- | --- | --- | --- |",
    ]
    for exercise in sorted(exercises, key=lambda e: (KINDS.index(e.spec.kind), e.spec.language, e.id)):
        spec = exercise.spec
        marks = ("*" if spec.short else "") + ("~" if spec.vary else "")
        name = f"`{exercise.id}` {marks}".rstrip()
        lines.append(f"| {name} | {spec.kind} | {spec.language} | {spec.difficulty} | {spec.tests} |")
    return "\n".join(lines).replace("*", "\\*") + "\n"


def main() -> int:
    """Write the page, or say whether it is true."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true", help="change nothing; exit 1 when the page is not true")
    args = parser.parse_args()
    text = page(load_suite(find_suite("berthdesk", Path()), check_lock=False))
    if args.check:
        return int(TARGET.read_text(encoding="utf-8") != text)
    TARGET.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
