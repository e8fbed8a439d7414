"""What the fields of one ``exercise.toml`` must say of each other; types alone cannot tell."""

import re
from collections.abc import Mapping
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.syntax import ANY, PAGE, TEXT
from kettlefield.core.plaintext import is_safe_name
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.suite import format as fmt
from kettlefield.suite.check_form import AnswerForm, CheckForm, kind_name
from kettlefield.suite.typed_toml import nearest

_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
MIN_VALUES = 3  # a parameter that hardly varies makes no new variant


def check_spec(folder: Path, path: Path, spec: fmt.ExerciseFile, forms: Mapping[str, CheckForm]) -> None:
    """Refuse an exercise whose fields contradict each other.

    Raises
    ------
    InputError
        With the file and the key.
    """
    faults = [
        *_plain_faults(folder, spec),
        *_check_faults(spec, forms),
        *_vary_faults(spec, forms),
        *_kind_faults(folder, spec),
    ]
    for what, key, hint in faults:
        raise InputError(what, f"{path} [{key}]", hint)


Fault = tuple[str, str, str]  # what, which key, what to do
_ANSWERS: dict[AnswerForm, str] = {"code": "code", "text": "prose", "page": "a page"}


def _plain_faults(folder: Path, spec: fmt.ExerciseFile) -> list[Fault]:
    faults: list[Fault] = []
    if not _ID.fullmatch(folder.name):
        faults.append(
            (f'folder name "{folder.name}" is not an id', "id", "Use small letters, digits and single hyphens.")
        )
    known = [*LANGUAGES, ANY, TEXT]
    if spec.language not in known:
        return [*faults, (f'there is no language "{spec.language}"', "language", nearest(spec.language, known))]
    if not 1 <= spec.difficulty <= 5:
        faults.append((f"is {spec.difficulty}", "difficulty", "Write 1 (easy) to 5 (hard)."))
    faults += [
        (f"{name!r} leaves the exercise's folder", key, "Name a file without a path.")
        for key, names in (("file", (spec.file,)), ("files", spec.files), ("decoy", _names(spec.decoy)))
        for name in names
        if not is_safe_name(name)
    ]
    harness = LANGUAGES[spec.language].harness if spec.language in LANGUAGES else None
    if spec.packages and (harness is None or not harness.takes_packages):
        faults.append((f'are given for "{spec.language}"', "packages", "Only Python exercises may declare packages."))
    names = _names(spec.decoy)
    faults += [
        (f'is broken by "{claim.broken_by}", which is no decoy here', "claim", nearest(claim.broken_by, list(names)))
        for claim in spec.claim
        if claim.broken_by not in names
    ]
    turns = 1 + len(spec.turn)
    faults += [
        (f'"{decoy.name}" answers turn {decoy.turn} of {turns}', "decoy", "Name a turn that there is.")
        for decoy in spec.decoy
        if not 1 <= decoy.turn <= turns
    ]
    return faults


def _names(decoys: tuple[fmt.Decoy, ...]) -> tuple[str, ...]:
    return tuple(decoy.name for decoy in decoys)


def _check_faults(spec: fmt.ExerciseFile, forms: Mapping[str, CheckForm]) -> list[Fault]:
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
    return faults + [fault for check in checks for fault in _one_check_faults(spec, check, forms[kind_name(check)])]


def _one_check_faults(spec: fmt.ExerciseFile, check: fmt.Check, form: CheckForm) -> list[Fault]:
    key = f'check "{check.name}"'
    answers: AnswerForm = "text" if spec.language == TEXT else "page" if spec.language == PAGE else "code"
    if form.answers != answers:
        hint = f'A check of kind "{form.name}" is for answers that are {_ANSWERS[form.answers]}.'
        return [(f'a check of this kind does not fit language "{spec.language}"', key, hint)]
    faults: list[Fault] = []
    callable_ = spec.language in LANGUAGES and LANGUAGES[spec.language].is_callable
    if form.calls(check) and not callable_:
        faults.append(
            (f'is "{spec.language}", whose functions cannot be called one by one', "language", 'Use kind = "program".')
        )
    return faults + [(what, key, hint) for what, hint in form.faults(check)]


def _vary_faults(spec: fmt.ExerciseFile, forms: Mapping[str, CheckForm]) -> list[Fault]:
    faults: list[Fault] = []
    for name, parameter in spec.vary.items():
        if parameter.ways:
            faults += _way_faults(name, parameter)
            continue
        values = set(parameter.pick) or set(
            range(parameter.low or 0, (parameter.high or 0) + 1, max(1, parameter.step))
        )
        if parameter.step < 1 or len(values - {parameter.base}) < MIN_VALUES:
            hint = "Write low and high, or pick, with a few values beside the base."
            faults.append((f"has fewer than {MIN_VALUES} values beside its base", f"vary.{name}", hint))
    checks = [*spec.check, *(check for turn in spec.turn for check in turn.check)]
    # what a variant expects is what its own answer gives, and that is one value
    loose = [check for check in checks if not forms[kind_name(check)].one_value(check)]
    if spec.vary and loose:
        hint = "Compare by value in an exercise that varies."
        faults.append((f'has the check "{loose[0].name}", whose expectation is not a single value', "vary", hint))
    return faults


def _way_faults(name: str, parameter: fmt.Parameter) -> list[Fault]:
    """What is wrong with a rule that has several ways."""
    faults: list[Fault] = []
    if str(parameter.base) not in parameter.ways or len(parameter.ways) < 2:
        hint = "Write a table for each way, the base's among them."
        faults.append(
            (f'has the ways {", ".join(parameter.ways)} and the base "{parameter.base}"', f"vary.{name}", hint)
        )
    if parameter.pick or parameter.low is not None or parameter.high is not None:
        faults.append(("has ways and values", f"vary.{name}", "Leave out low, high and pick."))
    if len({frozenset(texts) for texts in parameter.ways.values()}) > 1:
        faults.append(("has ways with different texts", f"vary.{name}", "Give each way the same keys."))
    return faults


def workspace_faults(spec: fmt.ExerciseFile, table: fmt.WorkspaceTable) -> list[Fault]:
    """What is wrong with a workspace's table."""
    faults: list[Fault] = []
    if table.build is not None and table.build not in table.commands:
        hint = nearest(table.build, list(table.commands))
        faults.append((f'build names "{table.build}", which is not a command', "workspace", hint))
    for key in ("turns", "calls", "tokens", "wall"):
        if getattr(table, key) <= 0:
            faults.append((f"{key} is {getattr(table, key):g}", "workspace", "Write 1 or more."))
    for name in table.needs:
        if name not in LANGUAGES:
            faults.append((f'there is no language "{name}"', "workspace.needs", nearest(name, list(LANGUAGES))))
    if spec.turn or spec.vary or spec.refer or spec.files:
        hint = "Leave out [[turn]], [vary], [refer] and files."
        faults.append(("holds what an exercise in a workspace cannot have", "workspace", hint))
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
        "refer": (spec.refer is not None, "has no text to refer to", "Add a [refer] table."),
        "page": (spec.language == PAGE, f'asks for "{spec.language}"', 'Write language = "html".'),
        "refactor": ((folder / "given").is_dir(), "shows no file to change", "Put it into given/."),
        "workspace": (spec.workspace is not None, "has no repository", "Add a [workspace] table."),
        "review": (spec.language == TEXT, f'asks for "{spec.language}"', 'Write language = "text".'),
        "explain": (spec.language == TEXT, f'asks for "{spec.language}"', 'Write language = "text".'),
    }
    if spec.refer is not None and spec.kind != "refer":
        return [(f'is for kind "refer", not "{spec.kind}"', "refer", "Leave the table out, or change the kind.")]
    if spec.workspace is not None and spec.kind != "workspace":
        return [(f'is for kind "workspace", not "{spec.kind}"', "workspace", "Leave it out, or change the kind.")]
    if spec.workspace is not None and (faults := workspace_faults(spec, spec.workspace)):
        return faults
    holds, what, hint = wants.get(spec.kind, (True, "", ""))
    return [] if holds else [(f'kind "{spec.kind}" {what}', "kind", hint)]
