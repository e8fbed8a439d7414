"""Time that extraction and grading's own code take on hostile replies, by size: how it grows, and the slowest.

    python benchmarks/odd_replies.py [--megabytes 2]

Every text is put to every form of exercise at four sizes, each twice the one before. Printed are the exponent that a
line through the logarithms gives - 1 is linear - and the seconds at the largest size.
"""

import argparse
import itertools
import time

import numpy as np

from kettlefield.core.extraction.extract import answer_text, extract_answer
from kettlefield.core.extraction.reply_symptoms import is_looping, is_refusal
from kettlefield.core.extraction.wanted import Gap, Wanted
from kettlefield.languages.all_languages import LANGUAGES

GIVEN = {"hold.py": "def tally(crates):\n    return 0\n"}
FORMS = {
    "python": Wanted(language="python", file="a.py", entry="f"),
    "python program": Wanted(language="python", file="a.py"),
    "javascript": Wanted(language="javascript", file="a.js", entry="f"),
    "c": Wanted(language="c", file="a.c", entry="f"),
    "any": Wanted(language="any", file="a"),
    "text": Wanted(language="text", file="a.md"),
    "page": Wanted(language="html", file="index.html", others=("site.css",)),
    "files": Wanted(language="python", file="main.py", others=("fares.py",)),
    "edit": Wanted(language="python", file="hold.py", entry="tally", given=GIVEN),
    "gap": Wanted(language="rust", file="a.rs", gap=Gap(opening="use std::io;\nfn main() {\n", closing="}\n")),
    "continued": Wanted(language="python", file="a.py", entry="f", gap=Gap(opening="def f(x):\n"), continued=True),
    "continued c": Wanted(language="c", file="a.c", gap=Gap(opening="int f(int x) {\n"), continued=True),
    "filled": Wanted(language="sql", file="a.sql", gap=Gap(opening="SELECT\n", closing="ORDER BY a\n"), continued=True),
}  # fmt: skip
PIECES = {
    "blank lines": "\n",
    "spaces": " ",
    "tabs": "\t",
    "open brackets": "(",
    "brackets in a line": "f(f(f(\n",
    "braces": "{",
    "closing braces": "}\n",
    "quotes": '"',
    "triple quotes": '"""\n',
    "backslashes": "\\",
    "fences": "```\n",
    "tagged fences": "```python\n",
    "blocks": "```python\nx = 1\n```\n",
    "blocks that define": "```python\ndef f(x):\n    return x\n```\n",
    "blocks of several names": "```python\ndef g(x):\n    return h(x)\n```\n",
    "tildes": "~",
    "back ticks": "`",
    "list items": "1. a\n",
    "nested lists": "- ",
    "quotations": "> ",
    "quoted fences": "> ```py\n",
    "indented fences": "     ```\n",
    "tags": "<a ",
    "open tags": "<div>",
    "comments": "<!--",
    "scripts": "<script>",
    "doctypes": "<!doctype ",
    "pre": "<pre><code>\n",
    "thinking": "<think>",
    "thinking over and over": "<think></think>",
    "ends of thinking": "</think>",
    "quoted ends of thinking": "'</think>\n",
    "lines of ends of thinking": "a\n</think>\n",
    "channels": "<|channel|>analysis<|message|>",
    "definitions": "def f(x):\n    return x\n",
    "half definitions": "def f(\n",
    "def and spaces": "def      ",
    "names": "f f f ",
    "name and spaces": "f     (",
    "assignments": "f = (",
    "c functions": "int f(int x) { return x; }\n",
    "diff hunks": "@@ -1,2 +1,2 @@\n def tally(crates):\n-    return 0\n+    return 0\n",
    "diff additions": "@@ -1 +1 @@\n+a\n",
    "diff files": "--- a/hold.py\n+++ b/hold.py\n@@ -1 +1 @@\n-x\n+y\n",
    "pairs": "<<<<<<< SEARCH\n    return 0\n=======\n    return 0\n>>>>>>> REPLACE\n",
    "pair openings": "<<<<<<< SEARCH\n",
    "file names": "`a.py`\n```\nx\n```\n",
    "long name": "a.py/",
    "css": ".a{b:c}\n",
    "signs": "@-+ <>=`#*_",
    "surrogates": "\ud800",
    "prompts": ">>> x\n",
    "typography": "\u201c\u00a0",
    "decorators": "@a\n",
    "comment lines": "# a\n",
    "unary": "-",
    "powers": "a**",
    "lambdas": "lambda:",
    "strings": "f'{'",
    "regex": "r'''",
    "sql": "SELECT a FROM b WHERE ",
    "refusals": "I cannot ",
    "words": "the ship ",
}
FRAMES = {
    "alone": "{}",
    "in a fence": "```python\n{}\n```",
    "in an open fence": "```\n{}",
    "in a page": "<!doctype html><html>{}</html>",
    "in a page's fence": "```html\n<!doctype html>{}\n```",
    "in a diff": "```diff\n--- a/hold.py\n+++ b/hold.py\n@@ -1 +1 @@\n-{}\n+x\n```",
    "behind code": "```python\ndef f(x):\n    return x\n```\n{}",
    "behind bare code": "def f(x):\n    return x\n{}",
    "in thinking": "<think>{}",
}


def one_text(piece: str, frame: str, chars: int) -> str:
    """A piece over and over until it has a length, in its frame."""
    word = PIECES[piece]
    return FRAMES[frame].replace("{}", (word * (chars // len(word) + 1))[:chars])


def take(text: str, wanted: Wanted) -> None:
    """All that our own code does with a reply before anything is run."""
    extract_answer(text, wanted, LANGUAGES)
    answer_text(text)
    is_looping(text)
    is_refusal(text)


def main() -> None:
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--megabytes", type=float, default=2.0, help="size of the largest text")
    parser.add_argument("--most-s", type=float, default=0.25, help="slower than this at an eighth of it is listed")
    args = parser.parse_args()
    most = round(args.megabytes * 1e6)
    sizes = [most // 8, most // 4, most // 2, most]
    rows = []
    cases = list(itertools.product(PIECES, FRAMES, FORMS))
    for piece, frame, form in cases:
        times = []
        for size in sizes:
            text = one_text(piece, frame, size)
            began_s = time.process_time()
            take(text, FORMS[form])
            times.append(max(1e-4, time.process_time() - began_s))
            if times[-1] > 20:
                break
            if len(times) == 1 and times[0] < args.most_s / 8:
                break
        if len(times) > 1:
            slope = float(np.polyfit(np.log(sizes[: len(times)]), np.log(times), 1)[0])
            rows.append((times[-1], slope, sizes[len(times) - 1], f"{form}: {piece} {frame}"))
    for seconds, slope, size, name in sorted(rows, reverse=True)[:40]:
        print(f"{seconds:7.2f} s at {size / 1e6:4.2f} MB, exponent {slope:4.2f}  {name}")
    print(f"{len(rows)} of {len(cases)} were slow enough to be timed at four sizes")


if __name__ == "__main__":
    main()
