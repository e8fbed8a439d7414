"""The steps that tasks are made of: what each says, how it is coded, what it means, and how it goes wrong.

A step takes one type of value and gives another. In its texts ``{one}`` and ``{many}`` name what is worked
on, ``{v}`` is the variable, and ``{n}``, ``{m}``, ``{word}``, ``{sign}`` ... are places that a task fills.
``means`` is the step's meaning worked out apart from its code, so that the one can be held against the other.
"""

# ruff: noqa: E501 - a step is read as one piece

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

Type = Literal["pair", "number", "numbers", "names", "text", "table", "rows", "truth"]
Places = dict[str, Any]
LISTS: tuple[Type, ...] = ("numbers", "names")


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One step."""

    id: str
    takes: Type
    gives: Type
    says: tuple[str, ...]
    code: str  # an expression
    means: Callable[[Any, Places], Any]
    wrong: tuple[tuple[str, str, str], ...]  # decoys: name, expression, the mistake that it stands for
    places: tuple[str, ...] = ()
    made: str = ""  # variable that holds what it gives; none: the one that it took
    ends_only: bool = False
    small: bool = field(default=False)  # its number is from 2 to 9


def _kept(id_: str, says: tuple[str, ...], test: str, means: Callable[[int, int], bool], slip: str, why: str) -> Step:
    return Step(
        id=id_,
        takes="numbers",
        gives="numbers",
        says=says,
        code=f"[{{one}} for {{one}} in {{v}} if {{one}} {test} {{n}}]",
        means=lambda value, at: [x for x in value if means(x, at["n"])],
        wrong=(
            ("edge", f"[{{one}} for {{one}} in {{v}} if {{one}} {slip} {{n}}]", why),
            ("other-way", "[{one} for {one} in {v} if not ({one} " + test + " {n})]", "Keeps what was to go."),
        ),
        places=("n",),
    )


def _mapped(id_: str, says: tuple[str, ...], code: str, means: Callable[[int, int], int], slip: str, why: str) -> Step:
    has_number = "{n}" in code
    return Step(
        id=id_,
        takes="numbers",
        gives="numbers",
        says=says,
        code=f"[{code} for {{one}} in {{v}}]",
        means=lambda value, at: [means(x, at.get("n", 0)) for x in value],
        wrong=(("slip", f"[{slip} for {{one}} in {{v}}]", why), ("left-out", "{v}", "Leaves this step out.")),
        places=("n",) if has_number else (),
    )


def _one(
    id_: str, says: tuple[str, ...], code: str, means: Callable[[int, int], Any], slip: str, why: str, **more: Any
) -> Step:
    """A step on a single number."""
    return Step(
        id=id_,
        takes="number",
        gives=more.pop("gives", "number"),
        says=says,
        code=code,
        means=lambda value, at: means(value, at.get("n", 0)),
        wrong=(("slip", slip, why), *more.pop("wrong", ())),
        places=("n",) if "{n}" in code else (),
        made="value",
        **more,
    )


NUMBER_LISTS = (
    _kept("above", ("keep the {many} above {n}", "take only {many} greater than {n}", "drop the {many} of {n} or less"),
          ">", lambda x, n: x > n, ">=", "Keeps the number itself too."),
    _kept("below", ("keep the {many} below {n}", "take only {many} less than {n}", "drop the {many} of {n} or more"),
          "<", lambda x, n: x < n, "<=", "Keeps the number itself too."),
    _kept("at-least", ("keep the {many} of at least {n}", "drop the {many} below {n}"),
          ">=", lambda x, n: x >= n, ">", "Drops the number itself too."),
    _kept("at-most", ("keep the {many} of at most {n}", "drop the {many} above {n}"),
          "<=", lambda x, n: x <= n, "<", "Drops the number itself too."),
    _kept("other-than", ("keep the {many} other than {n}", "drop every {one} that is {n}"),
          "!=", lambda x, n: x != n, "<", "Drops what is larger as well."),
    Step(id="multiples", takes="numbers", gives="numbers",
         says=("keep the multiples of {n}", "keep the {many} that {n} divides"),
         code="[{one} for {one} in {v} if {one} % {n} == 0]",
         means=lambda value, at: [x for x in value if x - at["n"] * (x // at["n"]) == 0],
         wrong=(("inverse", "[{one} for {one} in {v} if {one} % {n}]", "Keeps what is no multiple."),
                ("left-out", "{v}", "Leaves this step out.")), places=("n",), small=True),
    _mapped("add", ("add {n} to each {one}", "raise each {one} by {n}"), "{one} + {n}", lambda x, n: x + n,
            "{one} - {n}", "Takes away instead of adding."),
    _mapped("subtract", ("take {n} from each {one}", "lower each {one} by {n}"), "{one} - {n}", lambda x, n: x - n,
            "{n} - {one}", "Takes away the wrong way round."),
    _mapped("times", ("multiply each {one} by {n}", "make each {one} {n} times as large"), "{one} * {n}",
            lambda x, n: x * n, "{one} + {n}", "Adds instead of multiplying."),
    _mapped("remainders", ("take each {one} modulo {n}", "replace each {one} by its remainder after division by {n}"),
            "{one} % {n}", lambda x, n: x - n * (x // n), "{one} // {n}", "Takes the quotient."),
    _mapped("halves", ("halve each {one}, rounding down", "divide each {one} by two, rounding down"), "{one} // 2",
            lambda x, _: (x - x % 2) // 2, "-(-{one} // 2)", "Rounds up."),
    _mapped("negated", ("negate each {one}", "turn the sign of each {one}"), "-{one}", lambda x, _: 0 - x,
            "abs({one})", "Takes the size alone."),
    _mapped("capped", ("cap each {one} at {n}", "let no {one} be above {n}"), "min({one}, {n})",
            lambda x, n: n if x > n else x, "max({one}, {n})", "Lifts instead of capping."),
    _mapped("lifted", ("lift each {one} to at least {n}", "let no {one} be below {n}"), "max({one}, {n})",
            lambda x, n: n if x < n else x, "min({one}, {n})", "Caps instead of lifting."),
    Step(id="rising", takes="numbers", gives="numbers", says=("sort the {many}", "put the {many} in rising order"),
         code="sorted({v})", means=lambda value, _: [x for _, x in sorted(enumerate(value), key=lambda p: p[1])],
         wrong=(("falling", "sorted({v}, reverse=True)", "Sorts the wrong way."), ("left-out", "{v}", "Does not sort."))),
    Step(id="falling", takes="numbers", gives="numbers",
         says=("sort the {many} from the largest down", "put the {many} in falling order"),
         code="sorted({v}, reverse=True)", means=lambda value, _: [-y for y in sorted(-x for x in value)],
         wrong=(("rising", "sorted({v})", "Sorts the wrong way."), ("left-out", "{v}", "Does not sort."))),
    Step(id="first", takes="numbers", gives="numbers", says=("take the first {n}", "keep only the first {n} {many}"),
         code="{v}[:{n}]", means=lambda value, at: [x for i, x in enumerate(value) if i < at["n"]],
         wrong=(("last", "{v}[-{n}:]", "Takes the last ones."), ("without", "{v}[{n}:]", "Takes the others.")),
         places=("n",), small=True),
    Step(id="last", takes="numbers", gives="numbers", says=("take the last {n}", "keep only the last {n} {many}"),
         code="{v}[-{n}:]", means=lambda value, at: [x for i, x in enumerate(value) if i >= len(value) - at["n"]],
         wrong=(("first", "{v}[:{n}]", "Takes the first ones."), ("without", "{v}[:-{n}]", "Takes the others.")),
         places=("n",), small=True),
    Step(id="reversed", takes="numbers", gives="numbers", says=("reverse the {many}", "turn the {many} round"),
         code="{v}[::-1]", means=lambda value, _: list(reversed(value)),
         wrong=(("sorted", "sorted({v}, reverse=True)", "Sorts downwards."), ("left-out", "{v}", "Leaves them as is."))),
    Step(id="different", takes="numbers", gives="numbers",
         says=("keep each different {one} once, sorted", "sort the {many} without repeats"),
         code="sorted(set({v}))", means=lambda value, _: sorted(dict.fromkeys(value)),
         wrong=(("repeats", "sorted({v})", "Leaves repeats in."), ("left-out", "{v}", "Leaves this step out."))),
)  # fmt: skip

REDUCED = (
    Step(id="sum", takes="numbers", gives="number", says=("add them up", "take the sum"), code="sum({v})", made="total",
         means=lambda value, _: 0 if not value else value[0] + sum(value[1:]),
         wrong=(("largest", "max({v})", "Takes the largest."), ("count", "len({v})", "Counts them."))),
    Step(id="largest", takes="numbers", gives="number", says=("take the largest", "pick the greatest {one}"),
         code="max({v})", made="top", means=lambda value, _: sorted(value)[-1],
         wrong=(("smallest", "min({v})", "Takes the smallest."), ("last", "{v}[-1]", "Takes the last."))),
    Step(id="smallest", takes="numbers", gives="number", says=("take the smallest", "pick the least {one}"),
         code="min({v})", made="low", means=lambda value, _: sorted(value)[0],
         wrong=(("largest", "max({v})", "Takes the largest."), ("first", "{v}[0]", "Takes the first."))),
    Step(id="count", takes="numbers", gives="number", says=("count them", "take how many there are"), code="len({v})",
         made="count", means=lambda value, _: sum(1 for _ in value),
         wrong=(("sum", "sum({v})", "Adds them up."), ("one-less", "len({v}) - 1", "Counts one too few."))),
    Step(id="spread", takes="numbers", gives="number",
         says=("take the largest minus the smallest", "take the spread from least to greatest"),
         code="max({v}) - min({v})", made="span", means=lambda value, _: sorted(value)[-1] - sorted(value)[0],
         wrong=(("order", "{v}[-1] - {v}[0]", "Takes last minus first."), ("largest", "max({v})", "Takes the largest."))),
)  # fmt: skip

SINGLE = (
    _one("plus", ("add {n}", "raise it by {n}"), "{v} + {n}", lambda x, n: x + n, "{v} - {n}", "Takes away."),
    _one("minus", ("take away {n}", "lower it by {n}"), "{v} - {n}", lambda x, n: x - n, "{n} - {v}", "Wrong way round."),
    _one("product", ("multiply by {n}", "make it {n} times as large"), "{v} * {n}", lambda x, n: x * n, "{v} + {n}",
         "Adds."),
    _one("quotient", ("divide by {n}, rounding down", "see how often {n} goes into it"), "{v} // {n}",
         lambda x, n: (x - x % n) // n, "{v} % {n}", "Takes the remainder.", small=True),
    _one("remainder", ("take the remainder by {n}", "take it modulo {n}"), "{v} % {n}", lambda x, n: x - n * (x // n),
         "{v} // {n}", "Takes the quotient.", small=True),
    _one("cap", ("cap it at {n}", "let it be {n} at most"), "min({v}, {n})", lambda x, n: n if x > n else x,
         "max({v}, {n})", "Lifts."),
    _one("is-above", ("tell whether it is above {n}", "test if it is greater than {n}"), "{v} > {n}",
         lambda x, n: x > n, "{v} >= {n}", "Takes the number itself too.", gives="truth", ends_only=True,
         wrong=(("other-way", "{v} < {n}", "Compares the wrong way."),)),
    _one("is-below", ("tell whether it is below {n}", "test if it is less than {n}"), "{v} < {n}",
         lambda x, n: x < n, "{v} <= {n}", "Takes the number itself too.", gives="truth", ends_only=True,
         wrong=(("other-way", "{v} > {n}", "Compares the wrong way."),)),
    Step(id="either", takes="number", gives="text", says=('choose "{yes}" if it is above {n}, else "{no}"',
         'choose "{no}" unless it is above {n}, then "{yes}"'), code='"{yes}" if {v} > {n} else "{no}"',
         means=lambda value, at: at["no"] if value <= at["n"] else at["yes"],
         wrong=(("edge", '"{yes}" if {v} >= {n} else "{no}"', "Takes the number itself too."),
                ("swapped", '"{no}" if {v} > {n} else "{yes}"', "Swaps the two.")),
         places=("n", "yes", "no"), made="word"),
)  # fmt: skip

PAIRS = (
    Step(id="both", takes="pair", gives="number", says=("add the {a} and the {b}", "take the sum of {a} and {b}"),
         code="{a} + {b}", means=lambda v, _: sum(v), made="value",
         wrong=(("minus", "{a} - {b}", "Takes away."), ("one", "{a}", "Forgets the second."))),
    Step(id="between", takes="pair", gives="number", says=("take the {b} from the {a}", "subtract the {b} from the {a}"),
         code="{a} - {b}", means=lambda v, _: -v[1] + v[0], made="value",
         wrong=(("turned", "{b} - {a}", "Subtracts the wrong way round."), ("plus", "{a} + {b}", "Adds."))),
    Step(id="by", takes="pair", gives="number", says=("multiply the {a} by the {b}", "take the product of {a} and {b}"),
         code="{a} * {b}", means=lambda v, _: v[1] * v[0], made="value",
         wrong=(("plus", "{a} + {b}", "Adds."), ("square", "{a} * {a}", "Multiplies the first by itself."))),
    Step(id="larger", takes="pair", gives="number", says=("take the larger of {a} and {b}", "pick the {a} or the {b}, "
         "whichever is greater"), code="max({a}, {b})", means=lambda v, _: sorted(v)[1], made="value",
         wrong=(("smaller", "min({a}, {b})", "Takes the smaller."), ("first", "{a}", "Always takes the first."))),
    Step(id="smaller", takes="pair", gives="number", says=("take the smaller of {a} and {b}", "pick the {a} or the {b}, "
         "whichever is less"), code="min({a}, {b})", means=lambda v, _: sorted(v)[0], made="value",
         wrong=(("larger", "max({a}, {b})", "Takes the larger."), ("second", "{b}", "Always takes the second."))),
    Step(id="scaled", takes="pair", gives="number", says=("add {n} times the {b} to the {a}",
         "take the {a} plus {n} of the {b}"), code="{a} + {n} * {b}",
         means=lambda v, at: v[0] + sum([v[1]] * at["n"]), made="value", places=("n",), small=True,
         wrong=(("all", "({a} + {b}) * {n}", "Multiplies both."), ("turned", "{b} + {n} * {a}", "Swaps the two."))),
)  # fmt: skip

NAME_LISTS = (
    Step(id="starting", takes="names", gives="names", says=('keep the {many} that start with "{letter}"',
         'drop the {many} that do not begin with "{letter}"'), code='[{one} for {one} in {v} if {one}.startswith("{letter}")]',
         means=lambda value, at: [x for x in value if x[:1] == at["letter"]], places=("letter",),
         wrong=(("inside", '[{one} for {one} in {v} if "{letter}" in {one}]', "Looks anywhere."),
                ("ending", '[{one} for {one} in {v} if {one}.endswith("{letter}")]', "Looks at the end."))),
    Step(id="ending", takes="names", gives="names", says=('keep the {many} that end with "{letter}"',
         'drop the {many} that do not end in "{letter}"'), code='[{one} for {one} in {v} if {one}.endswith("{letter}")]',
         means=lambda value, at: [x for x in value if x[-1:] == at["letter"]], places=("letter",),
         wrong=(("inside", '[{one} for {one} in {v} if "{letter}" in {one}]', "Looks anywhere."),
                ("starting", '[{one} for {one} in {v} if {one}.startswith("{letter}")]', "Looks at the start."))),
    Step(id="holding", takes="names", gives="names", says=('keep the {many} that hold "{letter}"',
         'drop the {many} without "{letter}"'), code='[{one} for {one} in {v} if "{letter}" in {one}]',
         means=lambda value, at: [x for x in value if x.find(at["letter"]) >= 0], places=("letter",),
         wrong=(("without", '[{one} for {one} in {v} if "{letter}" not in {one}]', "Keeps the others."),
                ("starting", '[{one} for {one} in {v} if {one}.startswith("{letter}")]', "Looks at the start only."))),
    Step(id="longer", takes="names", gives="names", says=("keep the {many} longer than {n} letters",
         "drop the {many} of {n} letters or less"), code="[{one} for {one} in {v} if len({one}) > {n}]",
         means=lambda value, at: [x for x in value if x[at["n"]:]], places=("n",), small=True,
         wrong=(("edge", "[{one} for {one} in {v} if len({one}) >= {n}]", "Keeps those of just that length."),
                ("shorter", "[{one} for {one} in {v} if len({one}) < {n}]", "Keeps the short ones."))),
    Step(id="capitals", takes="names", gives="names", says=("put each {one} in capitals", "write each {one} in upper case"),
         code="[{one}.upper() for {one} in {v}]", means=lambda value, _: ["".join(c.upper() for c in x) for x in value],
         wrong=(("title", "[{one}.title() for {one} in {v}]", "Only the first letter."), ("left-out", "{v}", "Leaves it out."))),
    Step(id="heads", takes="names", gives="names", says=("cut each {one} to its first {n} letters",
         "keep the first {n} letters of each {one}"), code="[{one}[:{n}] for {one} in {v}]",
         means=lambda value, at: ["".join(list(x)[: at["n"]]) for x in value], places=("n",), small=True,
         wrong=(("tails", "[{one}[-{n}:] for {one} in {v}]", "Takes the last letters."),
                ("lists", "{v}[:{n}]", "Cuts the list instead."))),
    Step(id="named", takes="names", gives="names", says=('put "{word}" before each {one}', 'lead each {one} with "{word}"'),
         code='["{word}" + {one} for {one} in {v}]', means=lambda value, at: ["".join((at["word"], x)) for x in value],
         places=("word",), wrong=(("after", '[{one} + "{word}" for {one} in {v}]', "Puts it behind."),
                                  ("left-out", "{v}", "Leaves it out."))),
    Step(id="lengths", takes="names", gives="numbers", says=("replace each {one} by its length",
         "take the length of each {one}"), code="[len({one}) for {one} in {v}]",
         means=lambda value, _: [sum(1 for _ in x) for x in value], made="sizes",
         wrong=(("one-less", "[len({one}) - 1 for {one} in {v}]", "Counts one too few."),
                ("all", "[len({v}) for {one} in {v}]", "Counts the list each time."))),
    Step(id="by-name", takes="names", gives="names", says=("sort the {many}", "put the {many} in order"), code="sorted({v})",
         means=lambda value, _: sorted(value, key=lambda x: x),
         wrong=(("turned", "sorted({v}, reverse=True)", "Sorts the wrong way."), ("left-out", "{v}", "Does not sort."))),
    Step(id="by-length", takes="names", gives="names", says=("sort the {many} by length", "order the {many} by their length"),
         code="sorted({v}, key=len)", means=lambda value, _: [x for n in range(99) for x in value if len(x) == n],
         wrong=(("by-name", "sorted({v})", "Sorts by name."), ("left-out", "{v}", "Does not sort."))),
    Step(id="joined", takes="names", gives="text", says=('join them with "{sign}"', 'put "{sign}" between them in one text'),
         code='"{sign}".join({v})', means=lambda value, at: "".join(at["sign"] + x for x in value)[1:], places=("sign",),
         made="line", wrong=(("bare", '"".join({v})', "Joins with nothing."),
                             ("closing", '"{sign}".join({v}) + "{sign}"', "Puts one at the end too."))),
    Step(id="how-many", takes="names", gives="number", says=("count them", "take how many there are"), code="len({v})",
         means=lambda value, _: sum(1 for _ in value), made="count",
         wrong=(("letters", 'len("".join({v}))', "Counts letters."), ("one-less", "len({v}) - 1", "One too few."))),
)  # fmt: skip

TEXT_STEPS = (
    Step(id="upper", takes="text", gives="text", says=("put it in capitals", "write it in upper case"), code="{v}.upper()",
         means=lambda value, _: "".join(c.upper() for c in value), made="line",
         wrong=(("title", "{v}.title()", "Only first letters."), ("left-out", "{v}", "Leaves it out."))),
    Step(id="head", takes="text", gives="text", says=("take its first {n} letters", "cut it to {n} letters"), code="{v}[:{n}]",
         means=lambda value, at: "".join(list(value)[: at["n"]]), places=("n",), small=True, made="line",
         wrong=(("tail", "{v}[-{n}:]", "Takes the last ones."), ("rest", "{v}[{n}:]", "Takes the rest."))),
    Step(id="tail", takes="text", gives="text", says=("take its last {n} letters", "keep only the last {n} letters of it"),
         code="{v}[-{n}:]", means=lambda value, at: value[max(0, len(value) - at["n"]):], places=("n",), small=True,
         made="line", wrong=(("head", "{v}[:{n}]", "Takes the first ones."), ("rest", "{v}[:-{n}]", "Takes the rest."))),
    Step(id="swap", takes="text", gives="text", says=('replace "{sign}" by "{letter}" in it',
         'put "{letter}" where "{sign}" is'), code='{v}.replace("{sign}", "{letter}")',
         means=lambda value, at: "".join(at["letter"] if c == at["sign"] else c for c in value),
         places=("sign", "letter"), made="line",
         wrong=(("once", '{v}.replace("{sign}", "{letter}", 1)', "Replaces the first only."),
                ("turned", '{v}.replace("{letter}", "{sign}")', "Replaces the wrong way."))),
    Step(id="backwards", takes="text", gives="text", says=("reverse it", "turn it round"), code="{v}[::-1]", made="line",
         means=lambda value, _: "".join(reversed(value)),
         wrong=(("sorted", '"".join(sorted({v}))', "Sorts the letters."), ("left-out", "{v}", "Leaves it out."))),
    Step(id="followed", takes="text", gives="text", says=('put "{word}" after it', 'end it with "{word}"'),
         code='{v} + "{word}"', means=lambda value, at: "".join((value, at["word"])), places=("word",), made="line",
         wrong=(("before", '"{word}" + {v}', "Puts it before."), ("left-out", "{v}", "Leaves it out."))),
    Step(id="split", takes="text", gives="names", says=('split it at "{sign}"', 'cut it into parts at each "{sign}"'),
         code='{v}.split("{sign}")', means=lambda value, at: value.replace(at["sign"], "\0").split("\0"),
         places=("sign",), made="parts",
         wrong=(("once", '{v}.split("{sign}", 1)', "Splits at the first only."), ("spaces", "{v}.split()", "Splits at spaces."))),
    Step(id="tally", takes="text", gives="number", says=('count each "{letter}" in it', 'take how often "{letter}" is in it'),
         code='{v}.count("{letter}")', means=lambda value, at: sum(c == at["letter"] for c in value), places=("letter",),
         made="count", wrong=(("length", "len({v})", "Counts all letters."), ("found", '{v}.find("{letter}")', "Takes the place."))),
    Step(id="size", takes="text", gives="number", says=("take its length", "count its letters"), code="len({v})",
         means=lambda value, _: sum(1 for _ in value), made="count",
         wrong=(("one-less", "len({v}) - 1", "One too few."), ("different", "len(set({v}))", "Counts different letters."))),
)  # fmt: skip

TABLE_STEPS = (
    Step(id="keys-above", takes="table", gives="names", says=("list the keys whose number is above {n}",
         "take the keys with a number greater than {n}"), code="[key for key, number in {v}.items() if number > {n}]",
         means=lambda value, at: [k for k in value if value[k] > at["n"]], places=("n",), made="names",
         wrong=(("edge", "[key for key, number in {v}.items() if number >= {n}]", "Takes the number itself too."),
                ("other-way", "[key for key, number in {v}.items() if number < {n}]", "Takes the others."))),
    Step(id="keys-below", takes="table", gives="names", says=("list the keys whose number is below {n}",
         "take the keys with a number less than {n}"), code="[key for key, number in {v}.items() if number < {n}]",
         means=lambda value, at: [k for k in value if value[k] < at["n"]], places=("n",), made="names",
         wrong=(("edge", "[key for key, number in {v}.items() if number <= {n}]", "Takes the number itself too."),
                ("other-way", "[key for key, number in {v}.items() if number > {n}]", "Takes the others."))),
    Step(id="key-list", takes="table", gives="names", says=("list its keys", "take all of its keys"), code="list({v})",
         means=lambda value, _: [k for k, _ in value.items()], made="names",
         wrong=(("values", "list({v}.values())", "Takes the numbers."), ("sorted", "sorted({v})", "Sorts them."))),
    Step(id="numbers-of", takes="table", gives="numbers", says=("list its numbers", "take all of its values"),
         code="list({v}.values())", means=lambda value, _: [value[k] for k in value], made="numbers",
         wrong=(("sorted", "sorted({v}.values())", "Sorts them."), ("once", "list(set({v}.values()))", "Drops repeats."))),
    Step(id="looked-up", takes="table", gives="number", says=('look up "{word}", or {n} if it is not there',
         'take the number of "{word}", {n} where it is missing'), code='{v}.get("{word}", {n})',
         means=lambda value, at: value[at["word"]] if at["word"] in value else at["n"], places=("word", "n"), made="value",
         wrong=(("nothing", '{v}.get("{word}", 0)', "Takes 0 where it is missing."), ("brackets", '{v}["{word}"]', "Fails where it is missing."))),
    Step(id="top-key", takes="table", gives="text", says=("take the key with the largest number",
         "pick the key that has the greatest number"), code="max({v}, key={v}.get)", made="name",
         means=lambda value, _: next(k for k in value if value[k] == sorted(value.values())[-1]),
         wrong=(("by-name", "max({v})", "Takes the last by name."), ("least", "min({v}, key={v}.get)", "Takes the smallest."))),
)  # fmt: skip

ROW_STEPS = (
    Step(id="names-where", takes="rows", gives="names", says=('list the "{field}" of the rows whose "{figure}" is above {n}',
         'take each "{field}" where "{figure}" is greater than {n}'),
         code='[row["{field}"] for row in {v} if row["{figure}"] > {n}]',
         means=lambda value, at: [r[at["field"]] for r in value if not r[at["figure"]] <= at["n"]],
         places=("field", "figure", "n"), made="names",
         wrong=(("edge", '[row["{field}"] for row in {v} if row["{figure}"] >= {n}]', "Takes the number itself too."),
                ("all", '[row["{field}"] for row in {v}]', "Takes all rows."))),
    Step(id="figures-of", takes="rows", gives="numbers", says=('list the "{figure}" of each row', 'take every "{figure}"'),
         code='[row["{figure}"] for row in {v}]', means=lambda value, at: [r.get(at["figure"]) for r in value],
         places=("figure",), made="numbers",
         wrong=(("sorted", 'sorted(row["{figure}"] for row in {v})', "Sorts them."), ("first", '[{v}[0]["{figure}"] for row in {v}]', "Takes the first row's each time."))),
    Step(id="figures-at", takes="rows", gives="numbers", says=('list the "{figure}" of the rows whose "{field}" is "{word}"',
         'take each "{figure}" where "{field}" is "{word}"'), code='[row["{figure}"] for row in {v} if row["{field}"] == "{word}"]',
         means=lambda value, at: [r[at["figure"]] for r in value if r[at["field"]] in (at["word"],)],
         places=("figure", "field", "word"), made="numbers",
         wrong=(("others", '[row["{figure}"] for row in {v} if row["{field}"] != "{word}"]', "Takes the others."),
                ("all", '[row["{figure}"] for row in {v}]', "Takes all rows."))),
    Step(id="names-of", takes="rows", gives="names", says=('list the "{field}" of each row', 'take every "{field}"'),
         code='[row["{field}"] for row in {v}]', means=lambda value, at: [r.get(at["field"]) for r in value],
         places=("field",), made="names",
         wrong=(("sorted", 'sorted(row["{field}"] for row in {v})', "Sorts them."), ("first", '[{v}[0]["{field}"] for row in {v}]', "Takes the first row's each time."))),
)  # fmt: skip

STEPS = {
    step.id: step
    for step in (*NUMBER_LISTS, *REDUCED, *SINGLE, *PAIRS, *NAME_LISTS, *TEXT_STEPS, *TABLE_STEPS, *ROW_STEPS)
}
