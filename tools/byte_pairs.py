"""Find byte-pair merges in a text: the pair that stands most often becomes one piece, and again."""

import itertools
from collections import Counter
from collections.abc import Iterable

from kettlefield.demo.little.tokens import WORD_PATTERN


def find_merges(texts: Iterable[str], count: int) -> tuple[tuple[str, str], ...]:
    """The first ``count`` merges; of pairs that stand equally often the first by alphabet.

    Parameters
    ----------
    texts : iterable of str
        What the vocabulary is for, special marks taken out.
    count : int
        Merges wanted.
    """
    held = Counter(word for text in texts for word in WORD_PATTERN.findall(text))
    words = {word: list(word) for word in held}
    merges: list[tuple[str, str]] = []
    while len(merges) < count:
        pairs: Counter[tuple[str, str]] = Counter()
        for word, parts in words.items():
            for pair in itertools.pairwise(parts):
                pairs[pair] += held[word]
        if not pairs:
            break
        best = min(pairs, key=lambda pair: (-pairs[pair], pair))
        merges.append(best)
        for parts in words.values():
            _join(parts, best)
    return tuple(merges)


def _join(parts: list[str], pair: tuple[str, str]) -> None:
    at = 0
    while at < len(parts) - 1:
        if (parts[at], parts[at + 1]) == pair:
            parts[at : at + 2] = ["".join(pair)]
        at += 1
