"""Several answers that one hand wrote, built in one run of a compiler: a suite's own answers and its decoys."""

import io
import json
import tarfile
from collections.abc import Mapping, Sequence

import msgspec

from kettlefield.grading.builds import BUILD_LIMITS, build_key, run_compiler
from kettlefield.grading.kept import Kept
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.languages.language import Toolchain
from kettlefield.sandbox.runner import Sandbox

LEAST = 3  # answers for which it is worth the start of a driver
MORE_S = 10.0  # for each answer, beside what one build may take
MAINS = "mains.json"  # which file of each folder is built, for compilers that want to know


def build_together(
    toolchain: Toolchain, answers: Sequence[tuple[Mapping[str, str], str]], sandbox: Sandbox, kept: Kept
) -> None:
    """Build answers ahead, where their compiler can take several; what each made is kept as if it was built alone.

    What does not build here is not kept: it is built alone when it is graded, and its message is the compiler's own.

    Parameters
    ----------
    toolchain : Toolchain
        Of the answers' language.
    answers : sequence of (mapping, str)
        File name to text, and the file that is built and run.
    sandbox : Sandbox
        Where the build runs.
    kept : Kept
        Where what was made is looked for later.

    Raises
    ------
    RigError
        The host has no room or no right to run the build.
    """
    recipe = LANGUAGES[toolchain.language].recipe
    if recipe is None or recipe.build is None or recipe.together is None:
        return
    wanted = {build_key(toolchain, recipe.build, files, main): (files, main) for files, main in answers}
    # the drivers look into no folder below an answer's own, as a build alone would
    wanted = {
        key: one for key, one in wanted.items() if kept.get(key) is None and not any("/" in name for name in one[0])
    }
    if len(wanted) < LEAST:
        return
    folders = {f"{number}": key for number, key in enumerate(wanted)}
    files: dict[str, str | bytes] = {
        f"{folder}/{name}": text for folder, key in folders.items() for name, text in wanted[key][0].items()
    }
    files |= {**recipe.together.files, MAINS: json.dumps({folder: wanted[key][1] for folder, key in folders.items()})}
    line = recipe.together.line.replace("FOLDERS", " ".join(folders))
    most_s = BUILD_LIMITS.wall_s + MORE_S * len(folders)
    report = run_compiler(
        toolchain,
        f"mkdir -p /tmp/made /tmp/b && {line} >&2; tar -cf /tmp/out -C /tmp/made .",
        files,
        sandbox,
        export=True,
        limits=msgspec.structs.replace(BUILD_LIMITS, wall_s=most_s, cpu_s=most_s),
    )
    if report.exit_status != 0 or report.rig_fault is not None:
        return
    with tarfile.open(fileobj=io.BytesIO(report.results)) as tar:
        for member in tar.getmembers():
            key, made = folders.get(member.name.removeprefix("./")), tar.extractfile(member)
            if key is not None and made is not None:
                kept.put(key, made.read())
