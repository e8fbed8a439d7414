"""A suite's folder in, checked exercises out, with the digest that fixes it; errors name the file and the key."""

import hashlib
import os
from collections.abc import Iterator, Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import Any

import msgspec
import tomli_w

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.patching import Fit, apply_changes, parse_diff
from kettlefield.core.extraction.syntax import ANY
from kettlefield.suite import format as fmt
from kettlefield.suite.check_form import CheckForm, kind_name
from kettlefield.suite.consistency import check_spec
from kettlefield.suite.referred_text import read_referred
from kettlefield.suite.typed_toml import nearest, read_text, read_toml, to_struct
from kettlefield.suite.variants import BASE_SEED, draw_values, fill
from kettlefield.suite.workspace_files import read_workspace, tree_after

LOCK_NAME = "suite.lock"


def _parts_below(place: str, above: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    """Every file that belongs to a suite, by the names that lead to it; hidden files, caches and the lock do not."""
    with os.scandir(place) as entries:
        for entry in entries:
            parts = (*above, entry.name)
            if entry.name.startswith(".") or entry.name == "__pycache__" or parts == (LOCK_NAME,):
                continue
            if entry.is_symlink():
                hint = "A suite holds plain files only, so that its digest fixes it."
                raise InputError("is a link", entry.path, hint)
            if entry.is_dir():
                yield from _parts_below(entry.path, parts)
            elif entry.is_file():
                yield parts


def exercise_digests(folder: Path) -> dict[str, str]:
    """For each top-level entry of a suite (an exercise's folder, or a file) the digest of what it holds.

    Raises
    ------
    InputError
        A link is among them: what it points to could change without the digest knowing.
    """
    hashes: dict[str, hashlib._Hash] = {}
    for parts in sorted(_parts_below(str(folder), ())):
        with open("/".join((str(folder), *parts)), "rb") as file:  # noqa: PTH123 - thousands of them, at each start
            content = file.read()
        entry = hashes.setdefault(parts[0], hashlib.sha256())
        # lengths first, so that no two different trees feed the same bytes
        entry.update(f"{'/'.join(parts)}\0{len(content)}\0".encode())
        entry.update(content)
    return {name: f"sha256:{digest.hexdigest()}" for name, digest in hashes.items()}


def combine(digests: dict[str, str]) -> str:
    """One digest over the entries' digests."""
    text = "".join(f"{name}\0{digests[name]}\n" for name in sorted(digests))
    return f"sha256:{hashlib.sha256(text.encode()).hexdigest()}"


def write_lock(folder: Path) -> str:
    """Write the lock of a suite as it is now, and return its digest."""
    digests = exercise_digests(folder)
    digest = combine(digests)
    (folder / LOCK_NAME).write_text(tomli_w.dumps({"digest": digest, "entries": digests}), encoding="utf-8")
    return digest


def lock_faults(folder: Path, digests: dict[str, str]) -> list[str]:
    """What differs between a suite and its lock, one line an entry; nothing when there is no lock."""
    path = folder / LOCK_NAME
    if not path.exists():
        return []
    locked = read_toml(path).get("entries", {})
    names = sorted(set(locked) | set(digests))
    return [
        f"{name} was {_difference(name, locked, digests)} since the suite was locked"
        for name in names
        if locked.get(name) != digests.get(name)
    ]


def _difference(name: str, locked: dict[str, str], digests: dict[str, str]) -> str:
    if name not in locked:
        return "added"
    return "removed" if name not in digests else "changed"


MAX_ANSWER_FILES = 50


def find_suite(name: str, beside: Path) -> Path:
    """The folder of a suite: a path (relative to ``beside``), else the name of a built-in one.

    Raises
    ------
    InputError
        There is neither.
    """
    folder = Path(name) if Path(name).is_absolute() else beside / name
    if (folder / "suite.toml").is_file():
        return folder.resolve()
    built_in = Path(str(resources.files("kettlefield") / "suites"))
    known = sorted(path.parent.name for path in built_in.glob("*/suite.toml"))
    if name in known:
        return built_in / name
    raise InputError(
        f'there is no suite "{name}"',
        "suite",
        f"Name a folder that holds suite.toml, or a built-in suite: {', '.join(known)}.",
    )


class SuiteFiles(msgspec.Struct, frozen=True, kw_only=True):
    """A suite as it lies in its folder, with what each exercise says of itself; checked."""

    forms: Mapping[str, CheckForm]
    folder: Path
    title: str
    digest: str
    specs: Mapping[Path, fmt.ExerciseFile]

    def drawn(self, seed: int = BASE_SEED, selection: fmt.Selection = "all") -> fmt.Suite:
        """The suite with its texts, in the values that a seed draws.

        Parameters
        ----------
        seed : int
            Of the variants; 0 is the suite as written. What a variant's cases expect is not worked out yet.
        selection : str
            "short", "screen" or "all".

        Raises
        ------
        InputError
            A text is missing or malformed, or nothing is selected.
        """
        chosen = tuple(
            _read(self.forms, path, spec, seed) for path, spec in self.specs.items() if fmt.is_in(spec, selection)
        )
        if not chosen:
            hint = f'Mark exercises with selection = "{selection}", or ask for all.'
            raise InputError(f"has no {selection} selection", str(self.folder), hint)
        return fmt.Suite(
            name=self.folder.name,
            folder=self.folder,
            title=self.title,
            digest=self.digest if seed == BASE_SEED else combine({"suite": self.digest, "seed": str(seed)}),
            seed=seed,
            selection=selection,
            exercises=chosen,
        )


def read_suite(forms: Mapping[str, CheckForm], folder: Path, *, check_lock: bool = True) -> SuiteFiles:
    """Read and check what every exercise of a suite says of itself; texts are read when they are drawn.

    Parameters
    ----------
    forms : mapping of str to CheckForm
        The kinds of checks that exercises may have.
    folder : Path
        Holds ``suite.toml`` and a folder for each exercise.
    check_lock : bool
        Refuse a suite that differs from its own lock file.

    Raises
    ------
    InputError
        A file is missing, malformed or differs from the lock.
    """
    header = to_struct(read_toml(folder / "suite.toml"), fmt.SuiteFile, folder / "suite.toml")
    digests = exercise_digests(folder)
    faults = lock_faults(folder, digests) if check_lock else []
    if faults:
        raise InputError(
            "; ".join(faults),
            str(folder / "suite.lock"),
            "Restore the files, or run `kettlefield vet --lock` on the suite if the change is meant.",
        )
    folders = sorted(path.parent for path in folder.glob("*/exercise.toml"))
    if not folders:
        raise InputError("holds no exercise", str(folder), "Add a folder with an exercise.toml.")
    specs = {path: _read_spec(forms, path) for path in folders}
    return SuiteFiles(forms=forms, folder=folder, title=header.title, digest=combine(digests), specs=specs)


def load_suite(
    forms: Mapping[str, CheckForm],
    folder: Path,
    *,
    check_lock: bool = True,
    seed: int = BASE_SEED,
    selection: fmt.Selection = "all",
) -> fmt.Suite:
    """A suite read, checked and drawn with one seed: see ``read_suite`` and ``SuiteFiles.drawn``."""
    return read_suite(forms, folder, check_lock=check_lock).drawn(seed, selection)


def load_exercise(forms: Mapping[str, CheckForm], folder: Path, seed: int = BASE_SEED) -> fmt.Exercise:
    """Read and check one exercise, with the values that a seed draws.

    Raises
    ------
    InputError
        A file is missing or malformed; the message names it.
    """
    return _read(forms, folder, _read_spec(forms, folder), seed)


def _read_spec(forms: Mapping[str, CheckForm], folder: Path) -> fmt.ExerciseFile:
    """What an exercise says of itself, checked."""
    path = folder / "exercise.toml"
    spec = _with_checks(to_struct(read_toml(path), fmt.ExerciseFile, path), forms, path)
    check_spec(folder, path, spec, forms)
    return spec


def _read(forms: Mapping[str, CheckForm], folder: Path, spec: fmt.ExerciseFile, seed: int) -> fmt.Exercise:
    """The exercise with all its texts, in the values that a seed draws."""
    path = folder / "exercise.toml"
    checks: list[fmt.Check] = [*spec.check, *(check for turn in spec.turn for check in turn.check)]
    values = draw_values(spec.vary, folder.name, seed)
    read = _Reader(values)
    claims = [
        msgspec.structs.replace(claim, says=tuple(fill(place, values, path) for place in claim.places))
        for claim in spec.claim
    ]
    spec = msgspec.structs.replace(spec, claim=tuple(claims))
    referred = None if spec.refer is None else read_referred(spec.refer, folder, read)
    workspace = {} if spec.workspace is None else read_workspace(folder, spec.workspace, read)
    opening = folder / fmt.OPENING
    closing = folder / fmt.CLOSING
    return fmt.Exercise(
        id=folder.name,
        folder=folder,
        spec=spec,
        turns=_turns(folder, spec, read, workspace),
        cases={
            check.name: form.read(check, folder, read)
            for check in checks
            if (form := forms[kind_name(check)]).read is not None
        },
        scripts={name: read.text(folder / name) for check in checks for name in forms[kind_name(check)].scripts(check)},
        given=read.files(folder / "given", None) if (folder / "given").is_dir() else {},
        beside={
            **(read.files(folder / "beside", None) if (folder / "beside").is_dir() else {}),
            **(referred.library if referred is not None else {}),
        },
        opening=read.text(opening) if opening.exists() else None,
        closing=read.text(closing) if closing.exists() else "",
        guidance=read.text(folder / fmt.GUIDANCE).strip() if (folder / fmt.GUIDANCE).exists() else None,
        refer_to=referred,
        workspace=workspace,
        decoys={decoy.name: _decoy(folder, spec, decoy, read, workspace) for decoy in spec.decoy},
        is_variant=bool(spec.vary) and seed != BASE_SEED,
    )


def _with_checks(spec: fmt.ExerciseFile, forms: Mapping[str, CheckForm], path: Path) -> fmt.ExerciseFile:
    """The exercise with the tables of its checks read, each as its kind has them."""
    turns = tuple(
        msgspec.structs.replace(turn, check=_checks(turn.check, forms, path, f"turn {number}] [check"))
        for number, turn in enumerate(spec.turn, 1)
    )
    return msgspec.structs.replace(spec, check=_checks(spec.check, forms, path, "check"), turn=turns)


def _checks(tables: Sequence[Any], forms: Mapping[str, CheckForm], path: Path, place: str) -> tuple[fmt.Check, ...]:
    checks = []
    for number, table in enumerate(tables, 1):
        where = f"{path} [{place} {number}]"
        kind = table.get("kind") if isinstance(table, dict) else None
        if kind not in forms:
            what = f'there is no kind of check "{kind}"' if kind is not None else "a check has no kind"
            raise InputError(what, where, nearest(str(kind), list(forms)))
        checks.append(to_struct(table, forms[str(kind)].spec, Path(where)))
    return tuple(checks)


def _turns(folder: Path, spec: fmt.ExerciseFile, read: "_Reader", workspace: dict[str, str]) -> tuple[fmt.Turn, ...]:
    prompt = read.text(folder / "prompt.md").strip() + "\n"
    if spec.workspace is not None:
        answer = tree_after(folder / "answer", workspace, read)
        names = sorted({path.name.removesuffix(".diff") for path in (folder / "also").glob("*")})
        also = {name: tree_after(folder / "also" / name, workspace, read) for name in names}
        return (fmt.Turn(prompt=prompt, checks=spec.check, answer=answer, also=also),)
    turns = [
        fmt.Turn(
            prompt=prompt,
            checks=spec.check,
            answer=read.files(folder / "answer", spec.file),
            also=_also(folder, "", spec, read),
        )
    ]
    for number, turn in enumerate(spec.turn, 2):
        held = tuple(check for check in turns[-1].checks if check.name not in turn.replaces)
        turns.append(
            fmt.Turn(
                prompt=read.text(folder / f"prompt-{number}.md").strip() + "\n",
                checks=(*held, *turn.check),
                answer=read.files(folder / f"answer-{number}", spec.file),
                also=_also(folder, f"-{number}", spec, read),
            )
        )
    return tuple(turns)


def _also(folder: Path, turn: str, spec: fmt.ExerciseFile, read: "_Reader") -> dict[str, dict[str, str]]:
    """The other honest answers to a turn, in the order of their names."""
    names = sorted({path.name.removesuffix(".diff") for path in (folder / f"also{turn}").glob("*")})
    return {name: _derived(folder / f"also{turn}" / name, folder / f"answer{turn}", spec, read) for name in names}


def _decoy(
    folder: Path, spec: fmt.ExerciseFile, decoy: fmt.Decoy, read: "_Reader", workspace: dict[str, str]
) -> dict[str, str]:
    if spec.workspace is not None:
        return tree_after(folder / "decoys" / decoy.name, tree_after(folder / "answer", workspace, read), read)
    answer = folder / ("answer" if decoy.turn == 1 else f"answer-{decoy.turn}")
    return _derived(folder / "decoys" / decoy.name, answer, spec, read)


def _derived(path: Path, answer: Path, spec: fmt.ExerciseFile, read: "_Reader") -> dict[str, str]:
    """A decoy's or another answer's files: whole ones in a folder, or what a diff makes of the answer to its turn."""
    diff = path.with_name(f"{path.name}.diff")
    if not diff.is_file():
        # in a language of one's choice the file has that language's ending
        return read.files(path, spec.file if spec.language != ANY else None)
    files = read.files(answer, spec.file)
    for edit in parse_diff(read.text(diff)):
        name = edit.name or spec.file
        patched = apply_changes(files.get(name, ""), edit.changes)
        if name not in files or patched.fit is not Fit.CLEAN:
            hint = f"It must fit {answer.name}/ exactly: make it again with `diff -u`."
            raise InputError(f"{patched.fit} to {name}", str(diff), hint)
        files[name] = patched.text
    return files


class _Reader:
    """Reads an exercise's texts with its parameters filled in."""

    def __init__(self, values: dict[str, str]) -> None:
        self._values = values

    def text(self, path: Path) -> str:
        return fill(read_text(path), self._values, path)

    def files(self, folder: Path, main: str | None) -> dict[str, str]:
        """Every file of an answer, a decoy or what is given."""
        if main is not None and not (folder / main).is_file():
            hint = "Each answer and decoy holds the file that is asked for."
            raise InputError(f"there is no {main}", str(folder), hint)
        paths = sorted(path for path in folder.rglob("*") if path.is_file() and "__pycache__" not in path.parts)
        if len(paths) > MAX_ANSWER_FILES:
            raise InputError(f"holds {len(paths)} files", str(folder), f"At most {MAX_ANSWER_FILES}.")
        return {path.relative_to(folder).as_posix(): self.text(path) for path in paths}
