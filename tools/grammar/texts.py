"""Tasks as the texts that a model meets: chat, continuation and infill, as Kettlefield asks them."""

import random
from dataclasses import dataclass

from grammar.tasks import INTROS, Task, code_of, lines, phrases
from grammar.words import NAMES, WORDS
from kettlefield.demo.little.tokens import END, INFILL_MARKERS, ROLES

USER, ASSISTANT, SYSTEM = ROLES["user"], ROLES["assistant"], ROLES["system"]
PREFIX, SUFFIX, MIDDLE = INFILL_MARKERS
SPECIALS = (END, USER, ASSISTANT, SYSTEM, PREFIX, SUFFIX, MIDDLE)  # in the order of their tokens
FORM = "Reply with the complete Python code in one code block."


@dataclass(frozen=True, slots=True)
class Text:
    """What is given, and what is to follow it."""

    given: str
    wanted: str


def prompt_of(task: Task) -> str:
    """What a task asks, in one of four manners."""
    said = phrases(task)
    intro, sig = INTROS[task.start], task.signature
    first = said[0][0].upper() + said[0][1:]
    if task.manner == 0:
        asked = f"Write a Python function `{sig}`. {intro} {_joined(first, said[1:], ', then ')}. Return the result."
    elif task.manner == 1:
        steps = _joined(said[0], said[1:], ", then ")
        asked = f"Write `{sig}` in Python. {intro} First {steps}, and return what you get."
    elif task.manner == 2:
        steps = "\n".join(f"{number}. {text}" for number, text in enumerate(said, 1))
        asked = f"The function `{sig}` takes these steps:\n{steps}\n{intro} Return the result."
    else:
        asked = f"{intro} {_joined(first, said[1:], '; ')}. Write it as a function `{sig}` that returns the result."
    return f"{task.opening} {asked}".strip()


def _joined(first: str, others: list[str], link: str) -> str:
    return link.join([first, *others])


def opening_of(task: Task) -> str:
    """The function's head with what it does in its docstring."""
    said = phrases(task)
    first = said[0][0].upper() + said[0][1:]
    return f'def {task.signature}:\n    """{_joined(first, said[1:], ", then ")}; return the result."""\n'


def gap_of(task: Task, gap: int) -> tuple[str, str, str]:
    """What stands before a gap, what follows it, and what belongs into it: one line of the body."""
    body = [f"    {line}\n" for line in lines(task)]
    return opening_of(task) + "".join(body[:gap]), "".join(body[gap + 1 :]), body[gap]


def continue_prompt(task: Task) -> str:
    """How a function that is begun is asked for in a chat."""
    return f"Complete the Python function `{task.name}`, so that it does what its docstring says."


def infill_prompt(task: Task) -> str:
    """How a gap is asked for in a chat."""
    return f"A line is missing in `{task.name}`. Write the function with the line in its place."


def draw_text(task: Task, rng: random.Random) -> Text:
    """One text of a task, its form drawn at random."""
    code = code_of(lines(task), task)
    kind = rng.random()
    if kind < 0.62:
        return _chat(prompt_of(task), code, rng)
    if kind < 0.72:
        return _chat(f"{continue_prompt(task)}\n\n{_block(opening_of(task))}", code, rng)
    if kind < 0.80:
        before, after, _ = gap_of(task, rng.randrange(len(task.chain)))
        shown = f"Before the gap:\n\n{_block(before)}\n\nAfter the gap:\n\n{_block(after)}"
        return _chat(f"{infill_prompt(task)}\n\n{shown}", code, rng)
    if kind < 0.86:
        asked = prompt_of(task) + _environment(rng)
        return Text(f"{asked}\n\nThe complete Python code:\n\n```python\n", f"{code}```{END}")
    if kind < 0.90:
        return Text(opening_of(task), "".join(f"    {line}\n" for line in lines(task)) + END)
    if kind < 0.97:
        before, after, gap = gap_of(task, rng.randrange(len(task.chain)))
        return Text(f"{PREFIX}{before}{SUFFIX}{after}{MIDDLE}", gap + END)
    word = rng.choice([*WORDS, *(many for _, many in NAMES)])
    return Text(f"{USER}Reply with the single word {word} and nothing else.{ASSISTANT}", word + END)


def _chat(asked: str, code: str, rng: random.Random) -> Text:
    system = f"{SYSTEM}You write short Python functions." if rng.random() < 0.03 else ""
    return Text(f"{system}{USER}{asked}{_environment(rng)}\n\n{FORM}{ASSISTANT}", f"```python\n{code}```{END}")


def _environment(rng: random.Random) -> str:
    if rng.random() < 0.6:
        return ""
    version = f"3.{rng.randint(11, 14)}.{rng.randint(0, 15)}"
    return f"\n\nEnvironment: Python {version}, standard library only."


def _block(text: str) -> str:
    return f"```python\n{text.rstrip()}\n```"
