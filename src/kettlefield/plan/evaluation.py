"""A record evaluated against the criteria of its plan: the one decision that commands, signatures and reports share."""

from kettlefield.decision.provenance import conditions_of
from kettlefield.decision.verdict import Decision, reach_verdicts, recommendations
from kettlefield.plan.criteria import Terms, terms_of_text
from kettlefield.record.store import Record
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts


def decide(record: Record, *, terms: Terms | None = None) -> Decision:
    """What a record's results say of every candidate.

    Parameters
    ----------
    record : Record
        An open record.
    terms : Terms, optional
        Other criteria and conditions than those of the plan as it stood when the campaign began.

    Raises
    ------
    InputError
        No campaign was begun in it, or its plan cannot be read.
    """
    facts = campaign_facts(record)
    terms = terms or terms_of_text(facts["plan_text"], record.path)
    table = compare(record)
    verdicts = reach_verdicts(record, table, terms.criteria, terms.weights)
    choices = recommendations(table, verdicts)
    return Decision(
        title=facts["title"],
        simulated=facts["simulated"],
        table=table,
        criteria=terms.criteria,
        budget_bytes=terms.budget_bytes,
        verdicts=verdicts,
        recommended={model: candidate for model, (candidate, _) in choices.items()},
        why_recommended={model: why for model, (_, why) in choices.items()},
        conditions=conditions_of(record, terms.conditions),
        weights=terms.weights,
    )
