"""Write docs/berthdesk.md, berthdesk-tickets.md and firstlight.md: what the built-in suites ask, from them.

python scripts/suite_table.py [--check]
"""

import argparse
import sys
import textwrap
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from statistics import median

from kettlefield.core.extraction.file_diffs import lines_changed
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.suite.format import KINDS, VOICES, Exercise, Suite
from kettlefield.suite.loader import find_suite, load_suite

DOCS = Path(__file__).parents[1] / "docs"
VARIES = {None: "", "values": "~", "rules": "#"}
ABOUT = {
    "berthdesk": """
        {count} exercises from the daily work of Saltmarsh Ferries, a made-up company; {short} of them (*) are the short
        selection, these and {screen} (+) the screen selection. {rules} (#) draw variants with other rules from a seed,
        {values} (~) variants with other values. Each has its own answer and cases worked by hand from the prompt;
        {claims} claims say what the prompts demand, {decoys} decoys stand for real mistakes (each claim has
        one that breaks it and no other), and {also} further honest
        answers are written in other styles: `kettlefield vet` runs them all.
        """,
    "berthdesk-tickets": """
        {count} tickets of Saltmarsh Ferries, each set in a small repository that a model works in through tools;
        {short} of them (*) are the short selection. The repositories have up to 37 files; two hold a file of two
        thousand lines, and one ticket cannot be done without reading thirty-four. {claims} claims say what the tickets
        demand, {decoys} decoys stand for real mistakes: what breaks one demand alone, protected files that were
        changed, a build that was broken.
        """,
    "firstlight": """
        {count} micro-exercises for the little model that ships with the tool; {short} of them (*) are the short
        selection, {values} (~) draw variants from a seed. `tools/make_firstlight.py` draws them from those parts of
        the grammar in `tools/grammar` that no training text comes from: *near* ones have chains of steps that are
        trained with other words and numbers, *far* ones chains that no training text has. What a case expects is
        worked out from what the steps mean, apart from the code; a decoy is one step done wrongly.
        """,
}


def difficulty_table(exercises: Sequence[Exercise]) -> Iterator[str]:
    """Medians by difficulty: demands stated, length of the own answer and of the prompts."""
    yield "| difficulty | exercises | claims | lines of the own answer | words of the prompts |"
    yield "| --- | --- | --- | --- | --- |"
    for difficulty in range(1, 6):
        mine = [one for one in exercises if one.spec.difficulty == difficulty]
        if mine:
            claims = median(len(one.spec.claim) for one in mine)
            lines = median(map(answer_lines, mine))
            words = median(sum(len(turn.prompt.split()) for turn in one.turns) for one in mine)
            yield f"| {difficulty} | {len(mine)} | {claims:g} | {lines:g} | {words:g} |"


def answer_lines(exercise: Exercise) -> int:
    """Lines of the own answer that are not blank; in a workspace those that it changes."""
    if exercise.workspace:
        return lines_changed(exercise.workspace, exercise.answer)
    return sum(bool(line.strip()) for line in whole_answer(exercise).splitlines())


def whole_answer(exercise: Exercise) -> str:
    """The own answer to the last turn, all its files."""
    return "\n".join(exercise.turns[-1].answer.values())


def page(name: str, suite: Suite) -> str:
    """The page as Markdown."""
    exercises = suite.exercises
    kinds = Counter(exercise.spec.kind for exercise in exercises)
    languages = Counter(exercise.spec.language for exercise in exercises)
    of = Counter(exercise.spec.selection for exercise in exercises)
    counts = {
        "count": len(exercises),
        "short": of["short"],
        "screen": of["screen"],
        "claims": sum(len(exercise.spec.claim) for exercise in exercises),
        "decoys": sum(len(exercise.spec.decoy) for exercise in exercises),
        "also": sum(len(turn.also) for exercise in exercises for turn in exercise.turns),
    }
    varying = Counter(exercise.spec.varies for exercise in exercises)
    voices = Counter(exercise.spec.voice for exercise in exercises)
    counted = {
        "Kinds": [f"{kind} {kinds[kind]}" for kind in KINDS if kinds[kind]],
        "Languages": [f"{name} {count}" for name, count in languages.most_common()],
        "Voices": [f"{voice} {voices[voice]}" for voice in VOICES if voices[voice]],
    }
    about = ABOUT[name].format(**counts, rules=varying["rules"], values=varying["values"]).replace("(*)", "(\\*)")
    lines = [
        f"# The built-in suite `{name}`",
        "",
        "Made by `scripts/suite_table.py` from the suite; a test keeps it true.",
        "",
        textwrap.fill(" ".join(about.split()), 120),
        "",
        *(line for name, parts in counted.items() for line in (f"{name}: {', '.join(parts)}.", "")),
        *difficulty_table(exercises),
        "",
        "| exercise | kind | language | difficulty | what it finds out |",
        "| --- | --- | --- | --- | --- |",
    ]
    for exercise in sorted(exercises, key=lambda e: (KINDS.index(e.spec.kind), e.spec.language, e.id)):
        spec = exercise.spec
        marks = {"short": "\\*", "screen": "+"}.get(spec.selection, "") + VARIES[spec.varies]
        name = f"`{exercise.id}` {marks}".rstrip()
        lines.append(f"| {name} | {spec.kind} | {spec.language} | {spec.difficulty} | {spec.tests} |")
    return "\n".join(lines) + "\n"


def main() -> int:
    """Write the pages, or say whether they are true."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--check", action="store_true", help="change nothing; exit 1 when a page is not true")
    args = parser.parse_args()
    for name in ABOUT:
        text = page(name, load_suite(CHECKS, find_suite(name, Path()), check_lock=False))
        target = DOCS / f"{name}.md"
        if not args.check:
            target.write_text(text, encoding="utf-8")
        elif not target.exists() or target.read_text(encoding="utf-8") != text:
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
