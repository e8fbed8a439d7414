"""What is found out of a server before a candidate's trials: what it accepts, which prompts fit, what fills it."""

from collections.abc import Callable, Mapping

from kettlefield.campaign.filling import Filling, count_filling, filler_of
from kettlefield.campaign.preflight import Fit, check_session, find_fit
from kettlefield.campaign.serving import Session
from kettlefield.campaign.setup import Observer
from kettlefield.campaign.tool_support import find_call_form
from kettlefield.campaign.trial_runner import sampling_of
from kettlefield.core.errors import ServerError
from kettlefield.measure.fidelity import FIDELITY
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.record.entries import ExchangeEntry
from kettlefield.record.store import Record
from kettlefield.server.exchange import Exchange
from kettlefield.server.prompt_scores import Way, find_way
from kettlefield.workspace.tool_calls import CallForm

PREFLIGHT = "preflight"


class SessionChecks:
    """Asks the servers of one campaign; every exchange goes into the record, what should be known to ``note``."""

    def __init__(
        self,
        plan: Plan,
        asked: Asked,
        record: Record,
        observer: Observer,
        note: Callable[[str, int | None], None],
    ) -> None:
        self._plan, self._asked, self._record = plan, asked, record
        self._observer, self._note = observer, note
        self._fits: dict[int, Fit] = {}  # by candidate's id: exercises that do not fit
        self._call_forms: dict[int, CallForm | None] = {}

    async def preflight(
        self, candidate: Candidate, candidate_id: int, session: Session, steps: tuple[str, ...]
    ) -> Mapping[str, float]:
        """The preflight check; the neutral settings that go with every request.

        Raises
        ------
        ServerError
            It refuses a plain short request.
        """
        table = candidate.sampling
        if not candidate.prompting.preflight:
            return {}  # what the server accepts is not known
        self._observer.phase(candidate.name, PREFLIGHT)
        sampling = sampling_of(candidate, table.seed)
        checked = await check_session(session.client, candidate.prompting, table, sampling)
        session.answered(checked.exchanges[0])
        for exchange in checked.exchanges:
            self._keep(exchange, "preflight", candidate_id, session)
        if checked.refusal is not None and session.is_alive():
            where, hint = session.server.url, "Correct [sampling] or [prompting]; the server's log may say more."
            raise ServerError(f"{candidate.name}: a first short request failed: it {checked.refusal}", where, hint)
        facts = checked.facts
        if FIDELITY in steps:
            found = session.scoring = await find_way(
                session.client, is_chat=candidate.prompting.style == "chat", top=candidate.fidelity.top_tokens
            )
            facts |= {"log_probabilities": found.way.value, "no_log_probabilities": dict(found.refused)}
            if found.way is Way.NONE:
                self._note(f"{candidate.name}: next-token measures are not measured: {found.words}", candidate_id)
        self._record.save_preflight(session.id, facts)
        for warning in (*checked.wrong_style, *checked.warnings):
            self._note(f"{candidate.name}: check [prompting] and [sampling]: {warning}", candidate_id)
        if checked.refused and table.neutral:
            names = ", ".join(checked.refused)
            self._record.save_note(
                f"{candidate.name}: left at the server's own default, it refuses: {names}", candidate_id
            )
        return checked.neutral

    async def fit(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: Session,
        wanted: frozenset[str],
        neutral: Mapping[str, float],
    ) -> Fit:
        """The exercises whose prompts do not fit, named before the first is asked; counted once for all starts."""
        if candidate_id in self._fits:
            return self._fits[candidate_id]
        self._observer.phase(candidate.name, "counting")
        sampling = sampling_of(candidate, candidate.sampling.seed, neutral)
        exercises = tuple(exercise for exercise in self._asked.exercises if exercise.id in wanted)
        fit = await find_fit(session.client, candidate, exercises, sampling)
        for exchange in fit.exchanges:
            self._keep(exchange, "count", candidate_id, session)
        if fit.over:
            names, context = ", ".join(sorted(fit.over)), candidate.server.context
            do = "does" if len(fit.over) == 1 else "do"
            what = f"{len(fit.over)} of {len(exercises)} exercises {do} not fit the context of {context:,} tokens"
            self._note(f"{candidate.name}: {what}: {names}", candidate_id)
        if session.is_alive():
            self._fits[candidate_id] = fit
        return fit

    async def call_form(
        self, candidate: Candidate, candidate_id: int, session: Session, neutral: Mapping[str, float]
    ) -> CallForm | None:
        """How the tools of exercises in a workspace are called; None: the server lacks what the plan wants."""
        if candidate_id in self._call_forms:
            return self._call_forms[candidate_id]
        sampling = sampling_of(candidate, candidate.sampling.seed, neutral)
        support = await find_call_form(session.client, candidate, sampling)
        if support.exchange is not None:
            self._keep(support.exchange, "preflight", candidate_id, session)
        if support.words:
            self._note(f"{candidate.name}: {support.words}", candidate_id)
        if session.is_alive():
            self._call_forms[candidate_id] = support.form
        return support.form

    async def filling(
        self, candidate: Candidate, candidate_id: int, session: Session, fit: Fit, neutral: Mapping[str, float]
    ) -> Filling | None:
        """What stands before the exercises of trials with a fill; none where there are no such trials."""
        if candidate.grading.fills == (None,):
            return None
        sampling = sampling_of(candidate, candidate.sampling.seed, neutral)
        text = filler_of(candidate, self._asked.exercises, self._plan.folder)
        filling, exchange = await count_filling(session.client, candidate, text, fit.chars_per_token, sampling)
        self._keep(exchange, "count", candidate_id, session)
        if not exchange.trace.prompt_tokens:
            self._note(f"{candidate.name}: how far the context is filled is guessed, not counted", candidate_id)
        return filling

    def _keep(self, exchange: Exchange, purpose: str, candidate_id: int, session: Session) -> None:
        entry = ExchangeEntry(exchange=exchange, candidate_id=candidate_id, session_id=session.id, purpose=purpose)
        self._record.save_exchange(entry)
