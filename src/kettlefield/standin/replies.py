"""What a made-up model replies: the suite's own answer or one of its decoys, wrapped as models wrap code.

Whether it solves an exercise hangs on its ability, the exercise's difficulty and the bits of its level;
chance is drawn from the names and the seed, so the same request always gets the same reply. Levels of one
model share most of their luck, as real levels of one model do.
"""

import hashlib
import random
import re
from dataclasses import dataclass

from kettlefield.core.languages import LANGUAGES
from kettlefield.core.wrongstyle import ASKED, EXPECTED
from kettlefield.standin.models import LoadedModel
from kettlefield.suite.format import Exercise

LOOP_BELOW_BITS = 3.6  # under this, some replies repeat themselves
LOOP_SHARE = 0.36  # of what it does not solve
REPAIR_MARK = "Correct it and reply with the complete code"
REPAIR_GAIN = 0.6  # log-odds a turn
SMALL_TALK = "This is a simulated reply from a made-up model: the prompt holds no exercise that it knows.\n"
_TOKEN = re.compile(r"\s+|\w{1,6}|[^\w\s]")


@dataclass(frozen=True, slots=True)
class Reply:
    """One reply; thinking comes first, in a field of its own."""

    text: str
    thinking: str = ""
    endless: bool = False  # repeats its end until the cap


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
        exercise = next((e for e in self._exercises if e.prompt.strip() in prompt), None)
        if exercise is None:
            return Reply(SMALL_TALK * 8)
        # told of its error it draws again, and somewhat better
        turn = prompt.count(REPAIR_MARK)
        rng = self._luck(exercise.id, self._level, str(seed), str(turn))
        solved = self._merit(exercise, seed) + turn * (REPAIR_GAIN + rng.gauss(0, 1)) > 0
        if not solved and self._model.bits_per_weight < LOOP_BELOW_BITS and rng.random() < LOOP_SHARE:
            return Reply(
                _opening(rng) + _fenced(exercise, _first_half(_code(exercise, None)), "```", closed=False),
                endless=True,
            )
        decoy = None if solved else rng.choice([decoy.name for decoy in exercise.spec.decoy])
        code = _code(exercise, decoy)
        return _wrap(exercise, code, rng) if is_chat else Reply(code)

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


def _code(exercise: Exercise, decoy: str | None) -> str:
    files = exercise.answer if decoy is None else exercise.decoys[decoy]
    return files[exercise.spec.file]


def _first_half(code: str) -> str:
    lines = code.splitlines(keepends=True)
    return "".join(lines[: max(1, len(lines) // 2)])


def _opening(rng: random.Random) -> str:
    lines = (
        "Here is the code.",
        "Sure - this follows the rules step by step.",
        "Below is a complete solution.",
    )
    return rng.choice(lines) + "\n\n"


def _fenced(exercise: Exercise, code: str, fence: str, *, tag: str | None = None, closed: bool = True) -> str:
    language = tag if tag is not None else exercise.spec.language
    return f"{fence}{language}\n{code}" + (f"{fence}\n" if closed else "")


def _wrap(exercise: Exercise, code: str, rng: random.Random) -> Reply:
    title = LANGUAGES[exercise.spec.language].title
    program = "python3" if title == "Python" else "node"
    usage = f"Save it as `{exercise.spec.file}` and run:\n\n```sh\n{program} {exercise.spec.file}\n```\n"
    opening = _opening(rng)
    indented = "".join(
        f"   {line}" if line.strip() else line for line in _fenced(exercise, code, "```").splitlines(keepends=True)
    )
    return rng.choice(
        (
            Reply(_fenced(exercise, code, "```")),
            Reply(opening + _fenced(exercise, code, "```")),
            Reply(opening + _fenced(exercise, code, "```") + "\nIt reads each value once.\n\n" + usage),
            Reply(_fenced(exercise, code, "~~~~", tag=title)),
            Reply(_fenced(exercise, code, "```", tag="")),
            Reply(f"## {exercise.spec.file}\n\n" + _fenced(exercise, code, "````")),
            Reply(f"1. The program:\n\n{indented}\n2. Nothing else is needed.\n"),
            Reply(f"<think>\nThe rules name the order of the result.\n</think>\n\n{_fenced(exercise, code, '```')}"),
            Reply(
                _fenced(exercise, code, "```"),
                thinking="First the rules, then the order of the result, then the ends.",
            ),
            Reply(code),
        )
    )
