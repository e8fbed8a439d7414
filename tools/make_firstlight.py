"""Write the suite firstlight: python tools/make_firstlight.py OUT_FOLDER.

Every exercise is a task of the grammar's evaluation part, half of them *near* and half *far* (see
``grammar.tasks``), and so is each of its variants. What a case expects is what the task's steps mean, worked
out apart from the code; a decoy is one step done wrongly, kept only where the cases tell it apart.
"""

import argparse
import contextlib
import io
import json
import random
import re
import shutil
from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import tomli_w
from grammar import words
from grammar.tasks import PARTS, Part, Task, code_of, draw_tasks, lines, meaning, part_of, phrases
from grammar.texts import continue_prompt, gap_of, infill_prompt, opening_of, prompt_of

SEED = 77
# how many of each kind, and how many steps they have in turn: a gap needs a line before or behind it
KINDS = {"write": 48, "continue": 10, "infill": 6}
STEPS_IN_TURN = {"write": (1, 1, 2, 1, 1, 2, 1, 1, 2, 1, 1, 3), "continue": (1, 2), "infill": (2,)}
CASES = 6
LEAST_PICKS, MOST_PICKS = 3, 5
MOST_ALIKE = 0.55  # of the word triples of the shorter prompt; vetting allows 0.6
SHORT_EVERY = 2  # which exercises belong to the short selection
TITLE = "First light: micro-exercises for a very small model"
DESCRIPTION = "One to three plain steps each, drawn from the part of a seeded grammar that no training text comes from."
Case = tuple[list[Any], Any]


def values_of(task: Task, args: list[Any]) -> Any:
    """What the task means for these arguments; None where it says nothing about them."""
    try:
        return meaning(task, args)
    except (LookupError, ValueError, TypeError):
        return None


def result_of(body: list[str], task: Task, args: list[Any]) -> Any:
    """What a body of code gives; the error's name where it fails."""
    space: dict[str, Any] = {}
    exec(code_of(body, task), space)  # the grammar's own code
    try:
        with contextlib.redirect_stdout(io.StringIO()):
            return space[task.name](*json.loads(json.dumps(args)))
    except Exception as err:
        return f"raises {type(err).__name__}"


def variants_of(task: Task) -> tuple[tuple[int, str] | None, list[Task]]:
    """Which place of which step varies, and the tasks that its other values make, all of the task's own part."""
    part = part_of(task)
    for number, (step, places) in enumerate(task.steps):
        place = next((name for name in ("n", "word", "letter", "sign") if name in places), None)
        if place is None:
            continue
        choices = {
            "n": range(2, 6) if step.small else range(2, 61),
            "word": words.WORDS,
            "letter": words.LETTERS,
            "sign": words.SIGNS,
        }[place]
        others = [with_value(task, number, place, value) for value in choices if value != places[place]]
        others = [other for other in others if part_of(other) == part]
        if len(others) >= LEAST_PICKS:
            rng = random.Random(str(task))
            return (number, place), rng.sample(others, min(MOST_PICKS, len(others)))
    return None, []


def with_value(task: Task, number: int, place: str, value: Any) -> Task:
    """The task with another value in one place."""
    chain = list(task.chain)
    name, places = chain[number]
    chain[number] = (name, tuple((key, value if key == place else old) for key, old in places))
    return replace(task, chain=tuple(chain))


def draw_args(task: Task, rng: random.Random) -> list[Any]:
    """Arguments that lie near the task's own numbers and hold its own words."""
    places = [places for _, places in task.steps]
    near = [p["n"] + d for p in places if "n" in p for d in (-1, 0, 1)] or [4, 9]
    number = lambda: rng.choice([rng.randint(0, 60), rng.choice(near), rng.randint(-9, 20)])  # noqa: E731
    letters = "".join([*(p.get("letter", "") + p.get("sign", "") for p in places), "aeoprst"])
    held = [p["word"] for p in places if "word" in p]
    word = lambda: rng.choice([*held, "".join(rng.choice(letters) for _ in range(rng.randint(1, 7)))])  # noqa: E731
    numbers = [number() for _ in range(rng.randint(3, 8))]
    numbers += rng.sample(numbers, 1)
    names = list(dict.fromkeys(word() for _ in range(rng.randint(2, 6))))
    if task.start == "numbers":
        return [numbers]
    if task.start in {"pair", "number"}:
        return numbers[: 2 if task.start == "pair" else 1]
    if task.start == "names":
        return [names]
    if task.start == "text":
        return ["".join(word() + rng.choice(letters) for _ in range(rng.randint(1, 3)))]
    if task.start == "table":
        return [dict(zip(names, numbers, strict=False))]
    row = lambda: {f: word() for f in words.NAME_FIELDS} | {f: number() for f in words.NUMBER_FIELDS}  # noqa: E731
    wanted = {p[key] for p in places for key in ("field", "figure") if key in p}
    return [[{key: value for key, value in row().items() if key in wanted} for _ in range(rng.randint(2, 5))]]


def slips(task: Task) -> Iterator[tuple[str, str, tuple[int, int] | None]]:
    """Each way to go wrong: its name, the mistake, and the step with its wrong way; None: nothing is returned."""
    for number, (step, _) in enumerate(task.steps):
        for which, (name, _, why) in enumerate(step.wrong):
            yield f"{step.id}-{name}", why, (number, which)
    yield "prints", "Prints the result instead of returning it.", None


def wrong_body(task: Task, slip: tuple[int, int] | None) -> list[str]:
    """The function's body with one mistake."""
    body = lines(task, slip)
    return body if slip is not None else [*body[:-1], f"print({body[-1].removeprefix('return ')})"]


def find_cases(task: Task, others: list[Task], rng: random.Random) -> tuple[list[Case], list[tuple[str, str, Any]]]:
    """Cases that the task and its variants all say something about, and the decoys that they tell apart."""
    found: list[Case] = []
    for _ in range(400):
        args = draw_args(task, rng)
        value = values_of(task, args)
        if value is None or len(json.dumps(args)) > 200 or any(args == old for old, _ in found):
            continue
        if any(values_of(other, args) is None for other in others):
            continue
        dull = value in ([], "", 0) and sum(old in ([], "", 0) for _, old in found) >= 1
        if not dull and sum(old == value for _, old in found) < 3:
            found.append((args, value))
    best: list[Case] = []
    decoys = [(name, why, slip) for name, why, slip in slips(task)]
    left = list(decoys)
    while left and found and len(best) < CASES:  # the case that tells most decoys apart, again and again
        caught = {id(case): [d for d in left if is_caught(task, d[2], case[0])] for case in found}
        top = max(found, key=lambda case: len(caught[id(case)]))
        if not caught[id(top)]:
            break
        best.append(top)
        found.remove(top)
        left = [d for d in left if d not in caught[id(top)]]
    best += found[: CASES - len(best)]
    every = [task, *others]
    sure = [d for d in decoys if all(_told(each, d[2], best) for each in every)]
    return best, sure


def _told(task: Task, slip: tuple[int, int] | None, cases: list[Case]) -> bool:
    """Whether a decoy never fails with an error, and one case at least tells it from the truth."""
    results = [result_of(wrong_body(task, slip), task, args) for args, _ in cases]
    if any(str(result).startswith("raises") for result in results):
        return False
    return any(is_caught(task, slip, args) for args, _ in cases)


def is_caught(task: Task, slip: tuple[int, int] | None, args: list[Any]) -> bool:
    """Whether arguments tell a decoy from the truth."""
    wrong, right = result_of(wrong_body(task, slip), task, args), values_of(task, args)
    return json.dumps(wrong) != json.dumps(right) and not str(wrong).startswith("raises")


def triples(text: str) -> set[tuple[str, ...]]:
    """As vetting sees a prompt."""
    said = re.findall(r"\w+", text.lower())
    return set(zip(said, said[1:], said[2:], strict=False))


def told_of(task: Task, kind: str, gap: int) -> tuple[str, str, str]:
    """The prompt, and what stands before and after a gap; empty where there is none."""
    if kind == "continue":
        return continue_prompt(task), opening_of(task), ""
    if kind == "infill":
        before, after, _ = gap_of(task, gap)
        return infill_prompt(task), before, after
    return prompt_of(task), "", ""


def claims_of(
    task: Task, shown: Task, prompt: str, cases: list[Case], decoys: list[tuple[str, str, Any]]
) -> Iterator[dict[str, Any]]:
    """Each step that the prompt tells in words is a demand: it is claimed with the first decoy that does it wrongly."""
    for number, phrase in enumerate(phrases(shown)):
        said = next((words for words in (phrase, phrase[:1].upper() + phrase[1:]) if words in prompt), None)
        wrong = next(((name, slip) for name, _, slip in decoys if slip is not None and slip[0] == number), None)
        if said is not None and wrong is not None:
            missed = all(is_caught(task, wrong[1], args) for args, _ in cases)
            yield {"says": said, "broken_by": wrong[0], **({"everywhere": True} if missed else {})}


def write_exercise(
    folder: Path, task: Task, kind: str, others: list[Task], where: tuple[int, str] | None, cases: list[Case],
    decoys: list[tuple[str, str, Any]], *, short: bool,
) -> None:  # fmt: skip
    """One exercise's files; the place that varies stands in them by its name."""
    shown = task if where is None else with_value(task, *where, f"@@{where[1]}@@")
    gap = 0
    prompt, before, after = told_of(shown, kind, gap)
    entry: dict[str, Any] = {
        "title": phrases(task)[0][:1].upper() + phrases(task)[0][1:],
        "kind": kind,
        "language": "python",
        "file": "answer.py",
        **({"selection": "short"} if short else {}),
        "difficulty": len(task.chain),
        "topics": sorted({step.takes for step, _ in task.steps}),
        "tests": f"A chain of {len(task.chain)} step{'s' * (len(task.chain) > 1)} of the {part_of(task)} part: "
        f"{', '.join(name for name, _ in task.chain)}.",
        "entry": task.name,
        "check": [
            {
                "kind": "calls",
                "name": "cases",
                "cases": "cases.json",
                "function": task.name,
                "computed_words": True,
                "arguments": "free",
            }
        ],
        "decoy": [{"name": name, "outcome": "wrong-answer", "mistake": why} for name, why, _ in decoys],
    }
    claims = list(claims_of(task, shown, prompt, cases, decoys))
    if claims:
        entry["claim"] = claims
    if where is not None:
        number, place = where
        picks = [dict(other.chain[number][1])[place] for other in others]
        entry["vary"] = {place: {"base": dict(task.chain[number][1])[place], "pick": picks}}
    (folder / "answer").mkdir(parents=True)
    (folder / "exercise.toml").write_text(tomli_w.dumps(entry), encoding="utf-8")
    (folder / "prompt.md").write_text(prompt + "\n", encoding="utf-8")
    (folder / "answer" / "answer.py").write_text(code_of(lines(shown), shown), encoding="utf-8")
    rows = [json.dumps({"args": args, "expect": value, "by_hand": True}) for args, value in cases]
    (folder / "cases.json").write_text("[\n" + ",\n".join(rows) + "\n]\n", encoding="utf-8")
    for name, _, slip in decoys:
        place_of = folder / "decoys" / name
        place_of.mkdir(parents=True)
        (place_of / "answer.py").write_text(code_of(wrong_body(shown, slip), shown), encoding="utf-8")
    if before:
        (folder / "opening.txt").write_text(before, encoding="utf-8")
    if after:
        (folder / "closing.txt").write_text(after, encoding="utf-8")


def make_suite(out: Path, counts: Mapping[str, int] = KINDS) -> int:
    """Write so many exercises of each kind; how many they are."""
    kinds = [kind for kind, count in counts.items() for _ in range(count)]
    streams = {part: draw_tasks(part, SEED) for part in PARTS}
    rng, taken, done = random.Random(SEED), set[str](), list[set[tuple[str, ...]]]()
    for number, kind in enumerate(kinds):
        steps = STEPS_IN_TURN[kind][number % len(STEPS_IN_TURN[kind])]
        part: Part = "near" if steps == 1 or number % 4 < 2 else "far"  # a chain of one step is never far
        for task in streams[part]:
            chain = ">".join(name for name, _ in task.chain)
            slug = task.name.replace("_", "-")
            if chain in taken or slug in taken or len(task.chain) != steps:
                continue
            prompt, before, after = told_of(task, kind, 0)
            own = triples(prompt + before + after)
            if any(len(own & old) > MOST_ALIKE * min(len(own), len(old)) for old in done):
                continue
            where, others = variants_of(task)
            cases, decoys = find_cases(task, others, rng)
            if len(cases) < CASES or len(decoys) < 2:
                continue
            write_exercise(out / slug, task, kind, others, where, cases, decoys[:3], short=len(done) % SHORT_EVERY == 0)
            taken |= {chain, slug}
            done.append(own)
            break
    (out / "suite.toml").write_text(tomli_w.dumps({"title": TITLE, "description": DESCRIPTION}), encoding="utf-8")
    return len(done)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("out", type=Path, help="written anew")
    args = parser.parse_args()
    if args.out.exists():
        shutil.rmtree(args.out)
    print(make_suite(args.out), "exercises in", args.out)
