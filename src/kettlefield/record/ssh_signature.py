"""Detached signatures with an SSH key, made and checked by OpenSSH's own program."""

import shutil
import subprocess
import tempfile
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import last_lines, visible

NAMESPACE = "kettlefield"  # a signature made for something else does not count here
_WITHIN_S = 60.0  # a key in hardware may wait for a touch


def sign_text(text: str, key: Path) -> str:
    """A detached signature over a text, in OpenSSH's armoured form.

    Parameters
    ----------
    text : str
        What is signed.
    key : Path
        A private key, or a public one whose private half the agent holds.

    Raises
    ------
    InputError
        There is no such key, it cannot be used, or OpenSSH is missing.
    """
    if not key.is_file():
        raise InputError("there is no such key", str(key), "Name an SSH key; `ssh-keygen -t ed25519` makes one.")
    with tempfile.TemporaryDirectory() as folder:
        message = Path(folder) / "digest"
        message.write_text(text, encoding="utf-8")
        done = _keygen("-Y", "sign", "-n", NAMESPACE, "-f", str(key), str(message))
        if done.returncode != 0:
            raise InputError(f"cannot sign ({_words(done)})", str(key), "Check the key and its passphrase.")
        return message.with_name("digest.sig").read_text(encoding="ascii")


def find_signer(text: str, signature: Path, allowed_signers: Path) -> str | None:
    """Who of those allowed signed a text; None: nobody of them did.

    Parameters
    ----------
    text : str
        What was signed.
    signature : Path
        As `sign_text` makes it.
    allowed_signers : Path
        Lines of names and public keys, as ``ssh-keygen(1)`` describes under ALLOWED SIGNERS.

    Raises
    ------
    InputError
        A file cannot be read, or OpenSSH is missing.
    """
    for path, hint in ((signature, "Sign with --by NAME --ssh-key KEY."), (allowed_signers, "Check the name.")):
        if not path.is_file():
            raise InputError("there is no such file", str(path), hint)
    files = ("-s", str(signature), "-f", str(allowed_signers))
    found = _keygen("-Y", "find-principals", *files)
    names = found.stdout.decode("utf-8", errors="replace").splitlines() if found.returncode == 0 else []
    for name in names:
        checked = _keygen("-Y", "verify", "-n", NAMESPACE, "-I", name, *files, stdin=text.encode())
        if checked.returncode == 0:
            return visible(name, keep_lines=False)
    return None


def _keygen(*words: str, stdin: bytes | None = None) -> "subprocess.CompletedProcess[bytes]":
    program = shutil.which("ssh-keygen")
    if program is None:
        raise InputError("there is no ssh-keygen", "PATH", "Install OpenSSH's client: apt-get install openssh-client.")
    try:
        return subprocess.run([program, *words], input=stdin, capture_output=True, timeout=_WITHIN_S, check=False)
    except subprocess.TimeoutExpired as err:
        raise InputError(
            f"gave no answer within {_WITHIN_S:.0f} s", "ssh-keygen", "Is a key waiting for a touch?"
        ) from err


def _words(done: "subprocess.CompletedProcess[bytes]") -> str:
    return last_lines(visible(done.stderr.decode("utf-8", errors="replace")), 1)
