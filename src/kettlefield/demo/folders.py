"""What both demos' folders share."""

from pathlib import Path

from kettlefield.core.errors import InputError


def claim_folder(folder: Path) -> Path:
    """Make a demo's folder with one for weights, or go on with it; where its plan is or will be.

    Raises
    ------
    InputError
        The folder holds something else.
    """
    plan = folder / "plan.toml"
    if folder.exists() and not plan.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise InputError("is there and is no demo", str(folder), "Name a new or empty folder.")
    (folder / "weights").mkdir(parents=True, exist_ok=True)
    return plan


def weights_path(model: str, level: str) -> str:
    """Where a level's file lies, from the folder."""
    return f"weights/{model}-{level}.gguf"


def candidate_table(model: str, level: str, *, reference: bool, more: str = "") -> str:
    """A candidate as a plan writes it; ``more`` is a further line."""
    lines = [f'\n[[candidate]]\nmodel = "{model}"\nlevel = "{level}"', f'weights = "{weights_path(model, level)}"']
    lines += ["reference = true  # the others of its model are compared with it"] if reference else []
    lines += [more] if more else []
    return "\n".join(lines) + "\n"
