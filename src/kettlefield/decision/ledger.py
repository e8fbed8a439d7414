"""The ledger of signatures: who decided what on which results, chained, and signed with an SSH key."""

import hashlib
import json
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import msgspec

from kettlefield.core.as_dict import as_dict
from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import last_lines, visible
from kettlefield.record.entries import SignatureEntry
from kettlefield.record.signed_rows import FORMAT, results_digest, signatures
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts

FIRST = "sha256:none"  # what the first entry is chained to
MOST_NOTE = 2000


class Audit(msgspec.Struct, frozen=True, kw_only=True):
    """What the ledger says of a record as it is now."""

    signatures: tuple[SignatureEntry, ...]
    faults: tuple[str, ...]  # in words; empty: nothing was changed since the last signature


def sign(record: Record, *, by: str, note: str, verdicts: dict[str, str]) -> SignatureEntry:
    """Add a signature under the results as they are.

    Parameters
    ----------
    record : Record
        An open record with a campaign.
    by, note : str
        Who signs, and why.
    verdicts : dict
        Candidate -> verdict.

    Raises
    ------
    InputError
        There is no name, or the note is too long.
    RigError
        The record cannot be written.
    """
    if not by.strip() or not by.isprintable():
        raise InputError("is not a name", "--by", "Write who decides.")
    if len(note) > MOST_NOTE:
        raise InputError(f"has {len(note)} characters", "--note", f"At most {MOST_NOTE}.")
    facts, before = campaign_facts(record), signatures(record)
    entry = SignatureEntry(
        at=time.time(),
        signed_by=by.strip(),
        note=note,
        verdicts=verdicts,
        plan_digest=facts["plan_digest"],
        suite_digest=facts["suite_digest"],
        results_digest=results_digest(record, FORMAT),
        format=FORMAT,
        previous_digest=before[-1].digest if before else FIRST,
        digest="",
    )
    entry = SignatureEntry(**{**as_dict(entry), "digest": _digest_of(entry)})
    record.save_signature(entry)
    return entry


def audit(record: Record) -> Audit:
    """Compare the record as it is with its signatures."""
    entries, faults = signatures(record), []
    previous = FIRST
    for number, entry in enumerate(entries, 1):
        if entry.digest != _digest_of(entry):
            faults.append(f"signature {number} was changed after it was made")
        if entry.previous_digest != previous:
            faults.append(f"signature {number} does not follow the one before it: one was taken out or put in")
        previous = entry.digest
    if entries:
        facts, last = campaign_facts(record), entries[-1]
        for what, now, then in (
            ("the plan", facts["plan_digest"], last.plan_digest),
            ("the suite", facts["suite_digest"], last.suite_digest),
            ("the results", results_digest(record, last.format), last.results_digest),
        ):
            if now != then:
                faults.append(f"{what} changed since {last.signed_by} signed")
        if facts["plan_digest"] != f"sha256:{hashlib.sha256(facts['plan_text'].encode()).hexdigest()}":
            faults.append("the plan's text is not the one that the campaign began with")
    return Audit(signatures=entries, faults=tuple(faults))


def _digest_of(entry: SignatureEntry) -> str:
    facts = {name: value for name, value in as_dict(entry).items() if name != "digest"}
    if entry.format is None:  # as formats up to 7 did
        del facts["format"]
    return f"sha256:{hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()}"


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
    principal = _keygen("-Y", "find-principals", *files)
    names = principal.stdout.decode("utf-8", errors="replace").splitlines() if principal.returncode == 0 else []
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
