"""Text to token numbers and back, and stop words: a reply ends before the first of them."""

import functools
import itertools
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from kettlefield.core.errors import InputError

# special marks: what each speaker's turn begins with, what ends a reply, what surrounds a gap
ROLES = {"system": "<|system|>", "user": "<|user|>", "assistant": "<|assistant|>"}
END = "<|end|>"
INFILL_MARKERS = ("<|prefix|>", "<|suffix|>", "<|middle|>")
CHARACTERS = "\n" + "".join(chr(code) for code in range(32, 127))
# a word with the space before it, a line break with its indentation, each digit alone
WORD_PATTERN = re.compile(r"[0-9]| ?[A-Za-z]+|\n *| ?[^\sA-Za-z0-9]+| +")


class OutsideVocabularyError(ValueError):
    """A text holds a character that no token stands for."""

    def __init__(self, character: str, place: int) -> None:
        super().__init__(f"character U+{ord(character):04X} at {place} is outside the model's vocabulary")


class Vocabulary(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What the tokens are: special marks first, then single characters, then what merges make."""

    specials: tuple[str, ...]
    merges: tuple[tuple[str, str], ...]  # in the order in which they were found

    @property
    def pieces(self) -> tuple[str, ...]:
        """The text of each token, by its number."""
        return (*self.specials, *CHARACTERS, *("".join(pair) for pair in self.merges))


class Tokenizer:
    """Reads and writes in a vocabulary."""

    def __init__(self, vocabulary: Vocabulary) -> None:
        self.pieces = vocabulary.pieces
        self.number = {piece: number for number, piece in enumerate(self.pieces)}
        self._rank = {pair: rank for rank, pair in enumerate(vocabulary.merges)}
        self.specials = vocabulary.specials
        self._marks = re.compile("(" + "|".join(re.escape(mark) for mark in vocabulary.specials) + ")")
        self._word = functools.lru_cache(maxsize=8192)(self._merge)

    def encode(self, text: str, *, marks: bool = False) -> list[int]:
        """The tokens of a text.

        Parameters
        ----------
        text : str
            Printable ASCII and line breaks.
        marks : bool
            Whether special marks count as such; what somebody typed into a chat is never one.

        Raises
        ------
        OutsideVocabularyError
            A character has no token.
        """
        strange = next((place for place, c in enumerate(text) if c not in self.number), None)
        if strange is not None:
            raise OutsideVocabularyError(text[strange], strange)
        parts = self._marks.split(text) if marks else [text]
        ids: list[int] = []
        for number, part in enumerate(parts):
            if number % 2:
                ids.append(self.number[part])
            else:
                for word in WORD_PATTERN.findall(part):
                    ids += self._word(word)
        return ids

    def _merge(self, word: str) -> tuple[int, ...]:
        parts = list(word)
        while len(parts) > 1:
            pairs = list(itertools.pairwise(parts))
            best = min(pairs, key=lambda pair: self._rank.get(pair, len(self._rank)))
            if best not in self._rank:
                break
            at = pairs.index(best)
            parts[at : at + 2] = ["".join(best)]
        return tuple(self.number[part] for part in parts)

    def decode(self, tokens: Sequence[int]) -> str:
        """The text of tokens; special marks stand as they are written."""
        return "".join(self.pieces[token] for token in tokens)


def read_vocabulary(path: Path) -> Vocabulary:
    """Read a vocabulary.

    Raises
    ------
    InputError
        The file is missing or malformed.
    """
    try:
        return msgspec.json.decode(path.read_bytes(), type=Vocabulary)
    except (OSError, msgspec.MsgspecError) as err:
        raise InputError(f"is not a vocabulary: {err}", str(path), "Restore it from the package.") from err


class StopWords:
    """Lets a reply's text through as soon as it can be no part of a stop word."""

    def __init__(self, words: Sequence[str]) -> None:
        self._words = [word for word in words if word]
        self._held = ""

    def add(self, text: str) -> tuple[str, bool]:
        """What may be sent now that this text was written, and whether a stop word ended the reply."""
        self._held += text
        places = [self._held.index(word) for word in self._words if word in self._held]
        if places:
            sent, self._held = self._held[: min(places)], ""
            return sent, True
        keep = max((self._beginning(word) for word in self._words), default=0)
        cut = len(self._held) - keep
        sent, self._held = self._held[:cut], self._held[cut:]
        return sent, False

    def rest(self) -> str:
        """What was held back when the reply ended without a stop word."""
        sent, self._held = self._held, ""
        return sent

    def _beginning(self, word: str) -> int:
        """How many of the last characters could begin a stop word."""
        return next((n for n in range(min(len(word) - 1, len(self._held)), 0, -1) if self._held.endswith(word[:n])), 0)
