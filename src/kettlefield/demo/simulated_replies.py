"""What a made-up model replies, wrapped as models wrap code; and a simulated judge with a set bias.

Whether it solves an exercise hangs on its ability, the exercise's difficulty and the bits of its level;
chance is drawn from the names and the seed, so the same request always gets the same reply. Levels of one
model share most of their luck, as real levels of one model do.
"""

import difflib
import hashlib
import random
import re
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from kettlefield.core.extraction.reply_symptoms import ASKED, EXPECTED
from kettlefield.core.extraction.syntax import TEXT
from kettlefield.demo.simulated_models import LoadedModel
from kettlefield.demo.simulated_work import WorkTurn, play
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.marking.judge_prompt import CHOICE_WANTED, MARK_WANTED
from kettlefield.suite.format import Exercise
from kettlefield.workspace.tools import TOOLS

EDIT_SHARE = 0.4  # of the answers to an exercise that gives a file come as a diff


class Reply(msgspec.Struct, frozen=True):
    """One reply; thinking comes first, in a field of its own."""

    text: str
    thinking: str = ""
    endless: bool = False  # repeats its end until the cap


def wrap(exercise: Exercise, files: dict[str, str], rng: random.Random) -> Reply:
    """An answer's files as one of many shapes of reply."""
    code = files[exercise.spec.file]
    if exercise.spec.language == TEXT:
        return Reply(code)
    if len(files) > 1:
        return Reply(_opening(rng) + _several(exercise, files, rng))
    if exercise.spec.file in exercise.given and rng.random() < EDIT_SHARE:
        return Reply(_opening(rng) + _diff(exercise, code))
    return _one_file(exercise, code, rng)


def half_written(exercise: Exercise, rng: random.Random) -> str:
    """The first half of an answer in a fence that never ends: what a loop begins with."""
    lines = exercise.answer[exercise.spec.file].splitlines(keepends=True)
    return _opening(rng) + _fenced(exercise, "".join(lines[: max(1, len(lines) // 2)]), "```", closed=False)


def _opening(rng: random.Random) -> str:
    lines = (
        "Here is the code.",
        "Sure - this follows the rules step by step.",
        "Below is a complete solution.",
    )
    return rng.choice(lines) + "\n\n"


def _tag(exercise: Exercise) -> str:
    name = exercise.spec.language
    if name in LANGUAGES:
        return name
    suffix = exercise.spec.file[exercise.spec.file.rfind(".") :]
    return next((language.name for language in LANGUAGES.values() if language.suffix == suffix), "")


def _fenced(exercise: Exercise, code: str, fence: str, *, tag: str | None = None, closed: bool = True) -> str:
    language = tag if tag is not None else _tag(exercise)
    return f"{fence}{language}\n{code}" + (f"{fence}\n" if closed else "")


def _several(exercise: Exercise, files: dict[str, str], rng: random.Random) -> str:
    heading = rng.choice(("### `{}`\n\n", "**{}**\n\n", "`{}`:\n\n"))
    return "\n".join(heading.format(name) + _fenced(exercise, text, "```") for name, text in files.items())


def _diff(exercise: Exercise, code: str) -> str:
    name = exercise.spec.file
    given = exercise.given[name].splitlines(keepends=True)
    lines = difflib.unified_diff(given, code.splitlines(keepends=True), f"a/{name}", f"b/{name}")
    return f"```diff\n{''.join(lines)}```\n"


def _one_file(exercise: Exercise, code: str, rng: random.Random) -> Reply:
    title = LANGUAGES[_tag(exercise)].title
    usage = f"Save it as `{exercise.spec.file}` and run:\n\n```sh\n./run {exercise.spec.file}\n```\n"
    opening = _opening(rng)
    indented = "".join(
        f"   {line}" if line.strip() else line for line in _fenced(exercise, code, "```").splitlines(keepends=True)
    )
    shapes = [
        Reply(_fenced(exercise, code, "```")),
        Reply(opening + _fenced(exercise, code, "```")),
        Reply(opening + _fenced(exercise, code, "```") + "\nIt reads each value once.\n\n" + usage),
        Reply(_fenced(exercise, code, "~~~~", tag=title)),
        Reply(f"## {exercise.spec.file}\n\n" + _fenced(exercise, code, "````")),
        Reply(f"1. The program:\n\n{indented}\n2. Nothing else is needed.\n"),
        Reply(f"<think>\nThe rules name the order of the result.\n</think>\n\n{_fenced(exercise, code, '```')}"),
        Reply(
            _fenced(exercise, code, "```"),
            thinking="First the rules, then the order of the result, then the ends.",
        ),
    ]
    if exercise.spec.language in LANGUAGES:
        shapes += [Reply(_fenced(exercise, code, "```", tag="")), Reply(code)]
    return rng.choice(shapes)


LOOP_BELOW_BITS = 3.6  # under this, some replies repeat themselves
LOOP_SHARE = 0.36  # of what it does not solve
REPAIR_MARK = "Correct it and reply with the complete code"
STRAYING_AT_4_BITS = 0.4
MOST_STRAYING = 0.9
REPAIR_GAIN = 0.6  # log-odds a turn
FADING, FADING_CHARS, LEAST_BEFORE_CHARS = 0.5, 10_000, 3_000  # log-odds for as many characters before the exercise
FOLLOWS_UP = 0.5  # chance that a model which has got so far follows the next turn, whatever its merit
SMALL_TALK = "This is a simulated reply from a made-up model: the prompt holds no exercise that it knows.\n"
_TOKEN = re.compile(r"\s+|\w{1,6}|[^\w\s]")


def tokens_of(text: str) -> list[str]:
    """A text in pieces about as long as a tokenizer's."""
    return _TOKEN.findall(text)


class Replier:
    """The replies of one made-up model at one level."""

    def __init__(self, model: LoadedModel, level: str, exercises: tuple[Exercise, ...]) -> None:
        self._model = model
        self._level = level
        # longest first: a prompt that holds another is found as itself
        self._exercises = sorted(exercises, key=lambda exercise: -len(exercise.prompt))

    def reply(self, prompt: str, seed: int, *, is_chat: bool = True) -> Reply:
        """The reply to a prompt; one that holds no exercise of ours gets a line of small talk.

        A plain text is continued: the code follows at once, without fence or prose.
        """
        if ASKED in prompt:
            return Reply(EXPECTED)
        exercise = self._asked(prompt, is_chat)
        if exercise is None:
            return Reply(SMALL_TALK * 8)
        turn = max(n for n, asked in enumerate(exercise.turns, 1) if n == 1 or asked.prompt.strip() in prompt)
        # after its error it draws again, and somewhat better
        repair = prompt.count(REPAIR_MARK)
        rng = self._luck(exercise.id, self._level, str(seed), str(repair), *([str(turn)] if turn > 1 else []))
        merit = self._merit(exercise, seed) - _distraction(exercise, prompt)
        solved = merit + repair * (REPAIR_GAIN + rng.gauss(0, 1)) > 0
        if turn > 1:
            solved = solved or rng.random() < FOLLOWS_UP
        if not solved and self._model.bits_per_weight < LOOP_BELOW_BITS and rng.random() < LOOP_SHARE:
            return Reply(half_written(exercise, rng), endless=True)
        files = exercise.turns[turn - 1].answer if solved else _wrong_files(exercise, turn, rng)
        if not is_chat:
            return Reply(_carried_on(exercise, files, prompt))
        # levels of one model write similar text, less so with fewer bits
        words = self._luck(exercise.id, str(seed), str(repair), str(turn), "words")
        return wrap(exercise, files, rng if rng.random() < self._straying() else words)

    def work(self, prompt: str, messages: Sequence[Mapping[str, Any]], tools: frozenset[str], seed: int) -> WorkTurn:
        """The next turn of work in the repository that a prompt is about."""
        exercise = next((e for e in self._exercises if e.workspace and e.prompt.strip() in prompt), None)
        if exercise is None:
            return WorkTurn(text=SMALL_TALK, calls=())
        named = tools or frozenset(name for name in TOOLS if f"`{name}(" in prompt)
        rng = self._luck(exercise.id, self._level, str(seed), "work")
        return play(exercise, messages, named, solves=self._merit(exercise, seed) > 0, rng=rng)

    def _straying(self) -> float:
        """How often a level puts things otherwise than the unquantised model does."""
        return min(MOST_STRAYING, STRAYING_AT_4_BITS * 2 ** (4 - self._model.bits_per_weight))

    def _asked(self, prompt: str, is_chat: bool) -> Exercise | None:
        """The exercise that a prompt asks, by its words or, where there are none, by its opening."""
        exercise = next(
            (
                e
                for e in self._exercises
                if e.prompt.strip() in prompt and (e.opening or "").rstrip() in prompt and not e.workspace
            ),
            None,
        )
        if exercise is None and not is_chat:
            exercise = next((e for e in self._exercises if e.opening is not None and e.opening in prompt), None)
        return exercise

    def _merit(self, exercise: Exercise, seed: int) -> float:
        """Above 0 it solves the exercise: ability less difficulty and damage, and luck of three kinds."""
        model = self._model
        damage = model.frailty * 2 ** (2.8 - model.bits_per_weight)
        return (
            model.ability
            - 0.6 * (exercise.spec.difficulty - 3)
            - damage
            + 1.1 * self._luck(exercise.id).gauss(0, 1)
            + 0.5 * self._luck(exercise.id, str(seed)).gauss(0, 1)
            + 0.3 * self._luck(exercise.id, str(seed), self._level).gauss(0, 1)
        )

    def _luck(self, *names: str) -> random.Random:
        key = "\0".join((self._model.name, *names))
        return random.Random(hashlib.sha256(key.encode()).digest())


def _distraction(exercise: Exercise, prompt: str) -> float:
    """What much text before the exercise takes, in log-odds."""
    before = max(0, prompt.find(exercise.prompt.strip()))
    return FADING * before / FADING_CHARS if before > LEAST_BEFORE_CHARS else 0.0


def _wrong_files(exercise: Exercise, turn: int, rng: random.Random) -> dict[str, str]:
    """One of the turn's decoys; where it has none, the wish is simply not followed."""
    decoys = [decoy.name for decoy in exercise.spec.decoy if decoy.turn == turn]
    return exercise.decoys[rng.choice(decoys)] if decoys else exercise.turns[max(0, turn - 2)].answer


def _carried_on(exercise: Exercise, files: dict[str, str], prompt: str) -> str:
    """What a model that only continues writes: the rest of the file where it was given its opening."""
    text = files[exercise.spec.file]
    opening, closing = exercise.opening, exercise.closing
    if opening is None or exercise.prompt.strip() in prompt or not text.startswith(opening):
        return text
    rest = text[len(opening) :]
    return rest[: -len(closing)] if closing and rest.endswith(closing) else rest


GOOD, POOR = 4, 1
_QUOTED = re.compile(r"\[([0-9a-f]{12}) begins\]\n(.*?)\n\[\1 ends\]", re.DOTALL)


class Biases(msgspec.Struct, frozen=True, kw_only=True):
    """How it errs; each a chance from 0 to 1."""

    place: float = 0.0  # takes the first, whatever it is
    length: float = 0.0  # else takes the longer
    noise: float = 0.0  # a mark is off by one


def read_biases(text: str) -> Biases:
    """Biases from ``place=0.3,length=0.2``.

    Raises
    ------
    ValueError
        A name is unknown, or a value is not a probability.
    """
    given = dict(part.split("=", 1) for part in text.split(",") if part)
    biases = Biases(**{name: float(value) for name, value in given.items()})
    if not all(0 <= getattr(biases, name) <= 1 for name in Biases.__struct_fields__):
        raise ValueError(f"biases={text!r}: wanted chances from 0 to 1")
    return biases


class SimulatedJudge:
    """Knows the exercises' own answers, and so what is right; says it with the biases that were set."""

    def __init__(self, biases: Biases, exercises: tuple[Exercise, ...]) -> None:
        self._biases = biases
        self._own = {_plain(text) for e in exercises for turn in e.turns for text in turn.answer.values()}

    @staticmethod
    def is_asked(prompt: str) -> bool:
        """Whether a prompt is one for a judge."""
        return MARK_WANTED in prompt or CHOICE_WANTED in prompt

    def reply(self, prompt: str, seed: int) -> str:
        """A mark or a choice, with a word before it."""
        replies = [match[2] for match in _QUOTED.finditer(prompt)]
        rng = random.Random(hashlib.sha256("\0".join([str(seed), *replies]).encode()).digest())
        if CHOICE_WANTED not in prompt:
            mark = GOOD if self._is_right(replies[0]) else POOR
            if rng.random() < self._biases.noise:
                mark = mark - 1 if mark == GOOD else mark + rng.choice((-1, 1))
            return f"It was compared with the guidance.\nMARK: {mark}"
        return f"Both were compared with the guidance.\nBETTER: {self._choice(replies, rng)}"

    def _choice(self, replies: list[str], rng: random.Random) -> str:
        one, other = replies
        if rng.random() < self._biases.place:
            return "ONE"
        if rng.random() < self._biases.length and len(one) != len(other):
            return "ONE" if len(one) > len(other) else "TWO"
        good = self._is_right(one), self._is_right(other)
        return "EQUAL" if good[0] == good[1] else "ONE" if good[0] else "TWO"

    def _is_right(self, reply: str) -> bool:
        # of several files the own answer's are quoted one after the other
        parts = re.split(r"^--- \S+\n", reply, flags=re.MULTILINE)
        return all(_plain(part) in self._own for part in parts if part.strip())


def _plain(text: str) -> str:
    return " ".join(text.split())
