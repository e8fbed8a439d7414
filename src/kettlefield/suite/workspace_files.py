"""The repository that an exercise is set in, and what its answers make of it."""

from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.file_diffs import patched
from kettlefield.suite import format as fmt
from kettlefield.suite.check_form import TextReader
from kettlefield.suite.typed_toml import nearest

MOST_FILES = 400
MOST_BYTES = 4 * 2**20  # of all files together
OVERLAY = "workspace"  # folder of an exercise: what it has in place of the shared files, or beside them


def read_workspace(folder: Path, table: fmt.WorkspaceTable, read: TextReader) -> dict[str, str]:
    """The repository as the model finds it: the shared one, with the exercise's own files laid over it.

    An empty file laid over a shared one takes it away.

    Raises
    ------
    InputError
        There is none, it holds what is no plain text file, or too much.
    """
    files: dict[str, str] = {}
    if table.base is not None:
        shared = folder.parent / fmt.WORKSPACES
        if not (shared / table.base).is_dir():
            known = sorted(path.name for path in shared.glob("*") if path.is_dir())
            where = f"{folder / 'exercise.toml'} [workspace] base"
            raise InputError(f'there is no repository "{table.base}"', where, nearest(table.base, known))
        files |= read_tree(shared / table.base, read)
    laid_over = read_tree(folder / OVERLAY, read) if (folder / OVERLAY).is_dir() else {}
    taken_away = {name for name, text in laid_over.items() if not text and name in files}
    files = {name: text for name, text in {**files, **laid_over}.items() if name not in taken_away}
    if not files:
        hint = f"Put files into {OVERLAY}/, or name a base."
        raise InputError("has an empty repository", str(folder / "exercise.toml"), hint)
    return files


def read_tree(folder: Path, read: TextReader) -> dict[str, str]:
    """Every file below a folder by its path; hidden ones and caches are left out, as they are of a suite's digest.

    Raises
    ------
    InputError
        A link, a device, a name or text that is not UTF-8, too many files or too much in them.
    """
    files: dict[str, str] = {}
    total = 0
    for path in sorted(folder.rglob("*")):
        parts = path.relative_to(folder).parts
        if any(part.startswith(".") or part == "__pycache__" for part in parts):
            continue
        shown = str(path).encode("utf-8", "backslashreplace").decode()
        if path.is_symlink() or not (path.is_file() or path.is_dir()):
            raise InputError("is a link or a device", shown, "A workspace holds plain files only.")
        if path.is_dir():
            continue
        if shown != str(path) or not "".join(parts).isprintable():
            raise InputError("has a name that is not UTF-8 or cannot be printed", shown, "Rename it.")
        total += path.stat().st_size
        if total > MOST_BYTES or len(files) >= MOST_FILES:
            hint = f"At most {MOST_FILES} files with {MOST_BYTES // 2**20} MiB together."
            raise InputError("holds too much for a workspace", str(folder), hint)
        files["/".join(parts)] = read.text(path)
    return files


def tree_after(path: Path, files: dict[str, str], read: TextReader) -> dict[str, str]:
    """The repository after an answer or a decoy: a diff beside ``path``, or a folder there whose files are laid over.

    Raises
    ------
    InputError
        There is neither, or the diff does not fit.
    """
    diff = path.with_name(f"{path.name}.diff")
    if diff.is_file():
        after, why = patched(files, read.text(diff))
        if why or after == files:
            hint = "It must fit exactly: make it again with `diff -ruN`."
            raise InputError(why or "changes nothing", str(diff), hint)
        return after
    if not path.is_dir():
        raise InputError("is missing", str(diff), "Each answer and decoy is a diff, or a folder of whole files.")
    return {**files, **read_tree(path, read)}
