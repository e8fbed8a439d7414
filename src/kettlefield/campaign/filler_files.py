"""Made-up project files of a small ferry company, to fill a context before a task; no answer is in them."""

import random
from collections.abc import Iterator

DRAW = "filler files"
_NOUNS = (
    "buoy",
    "slip",
    "gangway",
    "pontoon",
    "ferry",
    "roster",
    "permit",
    "lamp",
    "winch",
    "tender",
    "locker",
    "pilot",
)
_PARTS = ("inspection", "invoice", "handover", "repair", "survey", "notice", "stock", "training", "cleaning", "audit")
_FIELDS = ("code", "owner", "place", "due", "state", "cost_pence", "remark", "opened", "closed", "crew", "length_cm")
_STATES = ("planned", "open", "waiting", "done", "cancelled")
_PLACES = ("North 1", "North 2", "Spit", "Quarry Stage", "Gullholm", "Marsh Stage")
_VERBS = ("check", "file", "send", "copy", "sign", "collect", "return", "report", "store", "label")


def project_files() -> Iterator[tuple[str, str]]:
    """Name and text of one file after the other, without end, always the same ones."""
    number = 0
    while True:
        rng = random.Random(f"{DRAW} {number}")
        subject = f"{rng.choice(_NOUNS)}_{rng.choice(_PARTS)}"
        make = (_module, _notes, _settings, _table)[number % 4]
        name, text = make(subject, number, rng)
        yield name, text
        number += 1


def _module(subject: str, number: int, rng: random.Random) -> tuple[str, str]:
    fields = rng.sample(_FIELDS, 5)
    title = "".join(part.title() for part in subject.split("_"))
    lines = [f'"""Records of each {subject.replace("_", " ")}, office copy {number}."""', ""]
    lines += ["from dataclasses import dataclass", "", "", "@dataclass(frozen=True)", f"class {title}:"]
    lines += [f"    {field}: {'int' if field.endswith(('_pence', '_cm')) else 'str'}" for field in fields]
    for verb in rng.sample(_VERBS, 3):
        field = rng.choice(fields)
        lines += ["", "", f"def {verb}_{subject}(record: {title}, note: str) -> str:"]
        lines += [f'    """What the office writes when it {verb}s one."""']
        lines += [
            f'    return f"{rng.choice(_PLACES)}: {verb} {{record.{field}}} ({{note}}), form {rng.randrange(900)}"'
        ]
    return f"office/{subject}_{number}.py", "\n".join(lines) + "\n"


def _notes(subject: str, number: int, rng: random.Random) -> tuple[str, str]:
    title = subject.replace("_", " ")
    lines = [f"# {title.capitalize()}, working notes {number}", ""]
    for step in range(1, rng.randrange(6, 10)):
        lines.append(
            f"{step}. At {rng.choice(_PLACES)}, {rng.choice(_VERBS)} form {rng.randrange(900)} and "
            f"{rng.choice(_VERBS)} it to shelf {rng.randrange(40)} by {rng.randrange(7, 20)}:{rng.randrange(60):02}."
        )
    lines += ["", f"Kept by the office. The {title} of last season is in box {rng.randrange(200)}."]
    return f"notes/{subject}_{number}.md", "\n".join(lines) + "\n"


def _settings(subject: str, number: int, rng: random.Random) -> tuple[str, str]:
    lines = [f"# {subject.replace('_', ' ')}", f"[{subject}_{number}]"]
    for field in rng.sample(_FIELDS, 6):
        value = rng.randrange(9000) if field.endswith(("_pence", "_cm")) else f'"{rng.choice(_STATES)}"'
        lines.append(f"{field} = {value}")
    lines += [f"places = [{', '.join(repr(place) for place in rng.sample(_PLACES, 3))}]".replace("'", '"')]
    return f"settings/{subject}_{number}.toml", "\n".join(lines) + "\n"


def _table(subject: str, number: int, rng: random.Random) -> tuple[str, str]:
    fields = rng.sample(_FIELDS, 4)
    name = f"{subject}_{number}"
    lines = [f"CREATE TABLE {name} ("]
    lines += [f"    {field} {'INTEGER' if field.endswith(('_pence', '_cm')) else 'TEXT'} NOT NULL," for field in fields]
    lines += ["    id INTEGER PRIMARY KEY", ");"]
    for row in range(1, rng.randrange(5, 9)):
        values = [
            str(rng.randrange(9000)) if f.endswith(("_pence", "_cm")) else f"'{rng.choice(_STATES)}'" for f in fields
        ]
        lines.append(f"INSERT INTO {name} VALUES ({', '.join(values)}, {row});")  # noqa: S608 - text, run by nobody
    return f"tables/{name}.sql", "\n".join(lines) + "\n"
