"""What the fields of one ``exercise.toml`` must say of each other; types alone cannot tell."""

import re
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import is_safe_name
from kettlefield.suite import format as fmt

_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
MIN_VALUES = 3  # a parameter that hardly varies makes no new variant
MIN_SIZES = 4  # of a growth check: fewer leave no degrees of freedom for an interval


def check_spec(folder: Path, path: Path, spec: fmt.ExerciseFile) -> None:
    """Refuse an exercise whose fields contradict each other.

    Raises
    ------
    InputError
        With the file and the key.
    """
    faults = [*_plain_faults(folder, spec), *_check_faults(spec), *_vary_faults(spec), *_kind_faults(folder, spec)]
    for what, key, hint in faults:
        raise InputError(what, f"{path} [{key}]", hint)


Fault = tuple[str, str, str]  # what, which key, what to do


def _plain_faults(folder: Path, spec: fmt.ExerciseFile) -> list[Fault]:
    faults: list[Fault] = []
    if not _ID.fullmatch(folder.name):
        faults.append(
            (f'folder name "{folder.name}" is not an id', "id", "Use small letters, digits and single hyphens.")
        )
    if not 1 <= spec.difficulty <= 5:
        faults.append((f"is {spec.difficulty}", "difficulty", "Write 1 (easy) to 5 (hard)."))
    faults += [
        (f"{name!r} leaves the exercise's folder", key, "Name a file without a path.")
        for key, names in (("file", (spec.file,)), ("files", spec.files), ("decoy", _names(spec.decoy)))
        for name in names
        if not is_safe_name(name)
    ]
    if spec.packages and spec.language != "python":
        faults.append((f'are given for "{spec.language}"', "packages", "Only Python exercises may declare packages."))
    turns = 1 + len(spec.turn)
    faults += [
        (f'"{decoy.name}" answers turn {decoy.turn} of {turns}', "decoy", "Name a turn that there is.")
        for decoy in spec.decoy
        if not 1 <= decoy.turn <= turns
    ]
    return faults


def _names(decoys: tuple[fmt.Decoy, ...]) -> tuple[str, ...]:
    return tuple(decoy.name for decoy in decoys)


def _check_faults(spec: fmt.ExerciseFile) -> list[Fault]:
    faults: list[Fault] = []
    if not spec.check:
        faults.append(("there is none", "check", "An exercise needs at least one check."))
    checks = [*spec.check, *(check for turn in spec.turn for check in turn.check)]
    names = [check.name for check in checks]
    if len(set(names)) < len(names):
        faults.append(("two checks share a name", "check", "Give each check a name of its own."))
    faults += [
        (f'replaces "{name}", which is not an earlier check', "turn", "Name a check of an earlier turn.")
        for turn in spec.turn
        for name in turn.replaces
        if name not in names
    ]
    if spec.check and not any(check.required for check in spec.check):
        faults.append(("none is required", "check", "At least one check must decide whether the answer passes."))
    return faults + [fault for check in checks for fault in _one_check_faults(spec, check)]


def _one_check_faults(spec: fmt.ExerciseFile, check: fmt.Check) -> list[Fault]:
    key = f'check "{check.name}"'
    faults: list[Fault] = []
    if (spec.language == "text") != isinstance(check, fmt.TextCheck):
        hint = 'Texts are checked by kind "text".'
        return [(f'a check of this kind does not fit language "{spec.language}"', key, hint)]
    if (spec.language == "html") != isinstance(check, fmt.PageCheck | fmt.PageRulesCheck):
        hint = 'Pages are checked by the kinds "page" and "page-rules".'
        return [(f'a check of this kind does not fit language "{spec.language}"', key, hint)]
    called = isinstance(check, fmt.CallsCheck) or (
        isinstance(check, fmt.GrowthCheck | fmt.BudgetCheck) and check.function is not None
    )
    if called and spec.language not in fmt.CALLABLE:
        faults.append(
            (f'is "{spec.language}", whose functions cannot be called one by one', "language", 'Use kind = "program".')
        )
    if isinstance(check, fmt.CallsCheck) and (check.function is None) == (check.object is None):
        faults.append(("wants one of function and object", key, "Write the function's name, or the class's."))
    if isinstance(check, fmt.GrowthCheck) and (len(set(check.sizes)) < MIN_SIZES or min(check.sizes, default=0) < 1):
        faults.append((f"has the sizes {list(check.sizes)}", key, f"Write at least {MIN_SIZES} sizes above 0."))
    if isinstance(check, fmt.TextCheck) and not 0 < check.at_least <= 1:
        faults.append((f"at_least is {check.at_least:g}", key, "Write a share above 0, up to 1."))
    return faults


def _vary_faults(spec: fmt.ExerciseFile) -> list[Fault]:
    faults: list[Fault] = []
    for name, parameter in spec.vary.items():
        values = set(parameter.pick) or set(
            range(parameter.low or 0, (parameter.high or 0) + 1, max(1, parameter.step))
        )
        if parameter.step < 1 or len(values - {parameter.base}) < MIN_VALUES:
            hint = "Write low and high, or pick, with a few values beside the base."
            faults.append((f"has fewer than {MIN_VALUES} values beside its base", f"vary.{name}", hint))
    checks = [*spec.check, *(check for turn in spec.turn for check in turn.check)]
    # what a variant expects is what its own answer gives, and that is one value
    loose = [
        c
        for c in checks
        if getattr(c, "compare", "equal") in {"one-of", "within", "pattern"} or getattr(c, "pattern", False)
    ]
    if spec.vary and loose:
        hint = "Compare by value in an exercise that varies."
        faults.append((f'has the check "{loose[0].name}", whose expectation is not a single value', "vary", hint))
    return faults


def _kind_faults(folder: Path, spec: fmt.ExerciseFile) -> list[Fault]:
    """What a kind promises must be there."""
    wants: dict[str, tuple[bool, str, str]] = {
        "repair": ((folder / "given").is_dir(), "shows no file to repair", "Put it into given/."),
        "extend": (bool(spec.turn), "has no second turn", "Add a [[turn]] and prompt-2.md."),
        "continue": ((folder / fmt.OPENING).exists(), "has no opening", f"Write {fmt.OPENING}."),
        "infill": (
            (folder / fmt.OPENING).exists() and (folder / fmt.CLOSING).exists(),
            "lacks an end of its gap",
            f"Write {fmt.OPENING} and {fmt.CLOSING}.",
        ),
        "files": (bool(spec.files), "names one file only", "List the others under files."),
        "page": (spec.language == "html", f'asks for "{spec.language}"', 'Write language = "html".'),
        "explain": (spec.language == "text", f'asks for "{spec.language}"', 'Write language = "text".'),
    }
    holds, what, hint = wants.get(spec.kind, (True, "", ""))
    return [] if holds else [(f'kind "{spec.kind}" {what}', "kind", hint)]
