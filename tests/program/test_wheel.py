"""The sdist and the wheel hold all that the program needs, and it runs from them without the repository."""

import os
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
DATA = (
    *("suites/berthdesk/suite.toml", "suites/firstlight/suite.toml", "views/templates/page.html.j2", "py.typed"),
    *(
        "demo/little/model/little.safetensors",
        "languages/harness/harness.mjs",
        "record/migrations/versions/format_8.py",
    ),
)


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """A wheel that was built from the sdist, in a folder with nothing else."""
    folder = tmp_path_factory.mktemp("build")
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "sdist", "-d", folder], cwd=ROOT, check=True)
    (sdist,) = folder.glob("*.tar.gz")
    with tarfile.open(sdist) as archive:
        archive.extractall(folder, filter="data")
    (source,) = (path for path in folder.iterdir() if path.is_dir())
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", folder], cwd=source, check=True)
    (found,) = folder.glob("*.whl")
    return found


def test_the_wheel_holds_code_and_data_and_no_tests(wheel):
    names = set(zipfile.ZipFile(wheel).namelist())
    assert {f"kettlefield/{name}" for name in DATA} <= names
    assert not [name for name in names if name.startswith(("tests/", "benchmarks/", "tools/"))]


def test_the_program_runs_from_an_installed_wheel(wheel, tmp_path):
    installing = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--no-deps",
        "--no-index",
        "--target",
        tmp_path / "site",
    ]
    subprocess.run([*installing, wheel], check=True)
    env = {**os.environ, "PYTHONPATH": str(tmp_path / "site")}

    def run(*words):
        done = subprocess.run(
            [sys.executable, *words], capture_output=True, text=True, cwd=tmp_path, env=env, check=False
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert run("-c", "import kettlefield; print(kettlefield.__file__)").startswith(str(tmp_path / "site"))
    assert "Write a plan and weights into a folder" in " ".join(run("-m", "kettlefield", "demo", "--help").split())
    assert "160 exercises" in run("-m", "kettlefield", "suite", "list", "berthdesk")
