"""``kettlefield compare --part replies``: how far each level's replies follow the reference level's."""

from pathlib import Path

from kettlefield.cli.console import (
    chosen,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_not_measured,
    print_note,
    print_table,
    safe,
)
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts, not_measured
from kettlefield.results.reply_similarity import reply_agreements


def show_replies(path: Path, only: str | None, against: str | None, *, as_json: bool) -> None:
    """Print one row a candidate that is compared with another."""
    record = Record.open(path)
    facts = campaign_facts(record)
    found = chosen(reply_agreements(record, against=against), only)
    if as_json:
        names = ("candidate", "reference", "temperature", "pairs", "identical", "same_code", "with_answer")
        rows = [{name: getattr(one, name) for name in (*names, "parted_at_chars", "parted_at_share")} for one in found]
        print_json({"simulated": facts["simulated"], "replies": rows})
        return
    console = make_console()
    print_heading(console, facts["title"], simulated=facts["simulated"])
    if not found:
        console.print("No candidate has another to compare with: mark a reference level, or name one with --against.")
        return
    heads = (">replies", ">identical", ">same code", ">part after, characters", ">of the reference's")
    table = make_table("candidate", "against", *heads)
    for one in found:
        table.add_row(
            safe(one.candidate),
            safe(one.reference),
            str(one.pairs),
            f"{one.identical} ({one.identical / one.pairs:.2f})",
            f"{one.same_code} of {one.with_answer}",
            "-" if one.parted_at_chars is None else f"{one.parted_at_chars:,.0f}",
            "-" if one.parted_at_share is None else f"{one.parted_at_share:.0%}",
        )
    print_table(console, table)
    print_not_measured(console, not_measured(record))
    print_note(
        console,
        "First replies to the same prompts with the same seeds. Same code: of those where both gave an answer, layout\n"
        "and comments apart. Part after: median of those that differ.",
    )
    warm = max(one.temperature for one in found)
    if warm > 0:
        console.print(
            f"Temperature is {warm:g}: above 0 replies differ by chance too, not by the level alone.", style="yellow"
        )
