"""Tasks drawn from the grammar, and which part of it each belongs to.

Training and evaluation never share a task. Evaluation holds two kinds: *near* ones, whose chain of steps is
trained with other words and numbers, and *far* ones, whose chain of steps is never trained at all.
"""

import hashlib
import random
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from grammar import words
from grammar.steps import STEPS, Places, Step, Type

Part = Literal["training", "near", "far"]
PARTS: tuple[Part, ...] = ("training", "near", "far")
STARTS: tuple[tuple[Type, int], ...] = (
    ("numbers", 8), ("pair", 4), ("number", 2), ("names", 5), ("text", 4), ("table", 4), ("rows", 4),
)  # fmt: skip
LENGTHS = (1, 2, 2, 2, 3, 3)
FAR_OUT_OF, NEAR_OUT_OF = 7, 6  # one chain in so many is far, one task of the others near
NOUNS = {"names": ("name", "names"), "parts": ("part", "parts"), "sizes": ("size", "sizes"),
         "numbers": ("number", "numbers")}  # fmt: skip
INTROS: Mapping[Type, str] = {
    "numbers": "It gets a list of numbers.",
    "pair": "It gets two whole numbers.",
    "number": "It gets a whole number.",
    "names": "It gets a list of texts.",
    "text": "It gets a text.",
    "table": "It gets a dictionary of numbers.",
    "rows": "It gets a list of dictionaries.",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Task:
    """One task: a chain of steps with their places filled, and the words around it."""

    start: Type
    chain: tuple[tuple[str, tuple[tuple[str, Any], ...]], ...]  # step, its places
    name: str  # of the function
    args: tuple[str, ...]
    nouns: tuple[str, str]  # one and many of what is worked on at the start
    manner: int  # which wording
    says: tuple[int, ...]  # which wording of each step
    opening: str  # a sentence that has nothing to do with it; may be empty

    @property
    def signature(self) -> str:
        """As the prompt names it."""
        return f"{self.name}({', '.join(self.args)})"

    @property
    def steps(self) -> tuple[tuple[Step, Places], ...]:
        """Each step with its places."""
        return tuple((STEPS[name], dict(places)) for name, places in self.chain)


def part_of(task: Task) -> Part:
    """Where a task belongs; its wording does not matter."""
    kinds = ">".join(name for name, _ in task.chain)
    if len(task.chain) > 1 and _digest(kinds) % FAR_OUT_OF == 0:
        return "far"
    return "near" if _digest(f"{task.chain} {task.args}") % NEAR_OUT_OF == 0 else "training"


def _digest(text: str) -> int:
    return int.from_bytes(hashlib.sha256(text.encode()).digest()[:8], "big")


def draw_tasks(part: Part, seed: int) -> Iterator[Task]:
    """Tasks of one part, without end; the same seed always draws the same."""
    rng = random.Random(f"{part} {seed}")
    while True:
        task = draw(rng)
        if part_of(task) == part:
            yield task


def draw(rng: random.Random) -> Task:
    """Any task of the grammar."""
    start = rng.choices([kind for kind, _ in STARTS], [weight for _, weight in STARTS])[0]
    chain = _draw_chain(rng, start, rng.choice(LENGTHS))
    nouns, args = _subject(rng, start)
    return Task(
        start=start,
        chain=tuple((step.id, tuple(_fill(rng, step).items())) for step in chain),
        name=f"{rng.choice(words.VERBS)}_{args[0]}",
        args=args,
        nouns=nouns,
        manner=rng.randrange(4),
        says=tuple(rng.randrange(len(step.says)) for step in chain),
        opening=rng.choice(words.OPENINGS).format(n=rng.randint(1, 30)) if rng.random() < 0.3 else "",
    )


def _draw_chain(rng: random.Random, start: Type, length: int) -> list[Step]:
    chain: list[Step] = []
    kind = start
    while len(chain) < length:
        fits = [step for step in STEPS.values() if step.takes == kind and step not in chain]
        if len(chain) < length - 1:
            fits = [step for step in fits if not step.ends_only]
        if not fits:
            break
        chain.append(rng.choice(fits))
        kind = chain[-1].gives
    return chain


def _subject(rng: random.Random, start: Type) -> tuple[tuple[str, str], tuple[str, ...]]:
    if start == "pair":
        one, other = rng.sample([one for one, _ in words.NUMBERS], 2)
        return (one, other), (one, other)
    if start in {"numbers", "number"}:
        nouns = rng.choice(words.NUMBERS)
    elif start == "names":
        nouns = rng.choice(words.NAMES)
    else:
        word = rng.choice({"text": words.TEXTS, "table": words.TABLES, "rows": words.ROWS}[start])
        nouns = (word, word)
    return nouns, (nouns[0 if start == "number" else 1],)


def _fill(rng: random.Random, step: Step) -> Places:
    yes, no = rng.choice(words.ANSWERS)
    drawn = {
        "n": rng.randint(2, 5) if step.small else rng.randint(2, 60),
        "letter": rng.choice(words.LETTERS),
        "sign": rng.choice(words.SIGNS),
        "word": rng.choice(words.WORDS),
        "field": rng.choice(words.NAME_FIELDS),
        "figure": rng.choice(words.NUMBER_FIELDS),
        "yes": yes,
        "no": no,
    }
    return {place: drawn[place] for place in step.places}


def phrases(task: Task) -> list[str]:
    """What each step says, with everything filled in."""
    said = []
    for (step, places), which, names in zip(task.steps, task.says, _names(task), strict=True):
        said.append(step.says[which].format(**names, **places))
    return said


def lines(task: Task, slip: tuple[int, int] | None = None) -> list[str]:
    """The function's body; with ``slip``, that step done by its wrong way of that number."""
    out = []
    for number, ((step, places), names) in enumerate(zip(task.steps, _names(task), strict=True)):
        code = step.code if slip is None or slip[0] != number else step.wrong[slip[1]][1]
        text = code.format(**names, **places)
        out.append(f"return {text}" if number == len(task.chain) - 1 else f"{step.made or names['v']} = {text}")
    return out


def _names(task: Task) -> list[dict[str, str]]:
    """For each step, the names it is said and coded with."""
    (one, many), variable, found = task.nouns, task.args[0], []
    for step, _ in task.steps:
        found.append({"one": one, "many": many, "v": variable, "a": task.args[0], "b": task.args[-1]})
        if step.made:
            variable = step.made
            one, many = NOUNS.get(variable, (one, many))
    return found


def code_of(body: list[str], task: Task) -> str:
    """The whole function."""
    return "\n".join([f"def {task.signature}:", *(f"    {line}" for line in body)]) + "\n"


def meaning(task: Task, args: list[Any]) -> Any:
    """What the function gives for these arguments, worked out apart from its code.

    Raises
    ------
    LookupError, ValueError, TypeError
        The task says nothing about such arguments: the largest of nothing.
    """
    value: Any = tuple(args) if task.start == "pair" else args[0]
    for step, places in task.steps:
        value = step.means(value, places)
    return value
