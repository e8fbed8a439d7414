"""Work in a repository: tools and their errors, calls in both forms, a context that fills up, ends and outcomes."""

import asyncio
import json
import os
from types import SimpleNamespace

import msgspec
import pytest
import tomli_w
from exercises import BASE, grader

from kettlefield.campaign.tool_support import find_call_form
from kettlefield.campaign.workspace_trials import run_workspace
from kettlefield.core.errors import InputError
from kettlefield.core.extraction.file_diffs import diff_of, lines_changed, patched
from kettlefield.core.outcome import Outcome
from kettlefield.core.timing.timeline import Trace
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.fairness import near_duplicates
from kettlefield.grading.vetting import missing_here, vet_exercise
from kettlefield.plan.tables import PromptingTable as Prompting
from kettlefield.plan.tables import SamplingTable, ServerTable, WorkspacesTable
from kettlefield.server.exchange import Exchange, ToolCall
from kettlefield.suite.format import WorkspaceTable
from kettlefield.suite.loader import find_suite, load_exercise, load_suite
from kettlefield.workspace.session import LEFT_OUT, End, Session
from kettlefield.workspace.tool_calls import calls_in
from kettlefield.workspace.tools import TOOLS, offered
from kettlefield.workspace.tree import MOST_FILE_CHARS, Tree

DESK = 'import tides\n\nprint("berth", tides.level(3))\n'
TIDES = "def level(hour):\n    return hour * 10\n"
FIXED = TIDES.replace("10", "12")
FILES = {"desk.py": DESK, "tides.py": TIDES, "notes/rules.md": "# Rules\n\nTwelve for each hour.\n"}


def ticket(folder, *, table=None, files=FILES, answer=FIXED, decoys=(), checks=(), cases=None, **spec):
    """An exercise in a workspace, written and loaded."""
    folder.mkdir(parents=True, exist_ok=True)
    own = {
        "kind": "workspace",
        "file": "desk.py",
        "workspace": {
            "commands": {"show": "{python} desk.py", "hang": "sleep 60", "count": "ls | wc -l"},
            "protected": ["notes/*"],
            **(table or {}),
        },
        "check": [{"kind": "command", "name": "prints", "cases": "cases.json"}, *checks],
        "limits": {"wall": "5 s"},
        "decoy": [{"name": name, "outcome": outcome, "mistake": "One."} for name, outcome, _ in decoys],
    }
    (folder / "exercise.toml").write_text(tomli_w.dumps(BASE | own | spec))
    (folder / "prompt.md").write_text("An hour is twelve: notes/rules.md says so, and desk.py must print 36.\n")
    (folder / "cases.json").write_text(
        json.dumps(cases or [{"run": "{python} desk.py", "stdout": "berth 36\n", "by_hand": True}])
    )
    for name, text in files.items():
        path = folder / "workspace" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    after = {**FILES, "tides.py": answer}
    (folder / "answer.diff").write_text(diff_of(FILES, after))
    (folder / "decoys").mkdir(exist_ok=True)
    for name, _, changed in decoys:
        (folder / "decoys" / f"{name}.diff").write_text(diff_of(after, {**after, **changed}))
    return load_exercise(CHECKS, folder)


CANDIDATE = SimpleNamespace(
    prompting=Prompting(),
    server=ServerTable(context=300_000),
    sampling=SamplingTable(max_tokens=500),
    workspaces=WorkspacesTable(),
)


def said(text="", calls=(), *, reason="stop", prompt_tokens=None, fault=None, over_context=False):
    """A reply; calls are (tool, arguments), arguments an object or what a model wrote instead."""
    written = tuple(
        ToolCall(id="", name=name, arguments=given if isinstance(given, str) else json.dumps(given))
        for name, given in calls
    )
    return Exchange(
        ask=None,
        asked_at=0.0,
        sent_s=0.0,
        concurrency=1,
        text=text,
        thinking="",
        trace=Trace(
            stamps_s=(0.1,),
            thinking=(False,),
            finished_s=0.2,
            prompt_tokens=prompt_tokens,
            completion_tokens=9,
        ),
        finish_reason=reason,
        fault=fault,
        refused=fault is not None,
        over_context=over_context,
        tool_calls=written,
    )


def play(exercise, replies, form="functions", candidate=CANDIDATE):
    """The attempt that follows from replies in turn, the last again and again; and the requests that were made."""
    asked = []

    async def ask_once(ask):
        asked.append(ask)
        reply = replies[min(len(asked), len(replies)) - 1]
        return reply if reply is None else msgspec.structs.replace(reply, ask=ask)

    async def in_thread(work):
        return work()

    attempt = asyncio.run(
        run_workspace(
            exercise,
            candidate,
            form,
            sampling={"max_tokens": 500},
            ask_once=ask_once,
            grader=grader(),
            in_thread=in_thread,
            entry_of=lambda exchange: SimpleNamespace(exchange=exchange),
        )
    )
    return attempt, asked


def call(tool, **given):
    return tool, given


FIX = call("replace_text", path="tides.py", old="* 10", new="* 12")
DONE = call("finish", summary="It is twelve now.")


def test_a_ticket_is_solved_by_several_calls_a_turn_and_told_back_in_order(tmp_path):
    exercise = ticket(tmp_path / "twelve")
    attempt, asked = play(
        exercise,
        [
            said("Let me see.", [call("list_files"), call("read_file", path="./tides.py", first_line="2")]),
            said("", [call("search", pattern=r"\btwelve\b|Twelve", path="notes"), FIX, call("run", command="show")]),
            said("", [DONE, call("write_file", path="tides.py", content="")]),
        ],
    )
    assert attempt.outcome is Outcome.PASSED
    assert (attempt.work.ended, attempt.work.form) == ("finished", "functions")
    assert (attempt.work.lines_changed, attempt.work.own_lines_changed) == (2, 2)
    assert patched(FILES, attempt.work.diff) == ({**FILES, "tides.py": FIXED}, "")
    assert [tool["function"]["name"] for tool in asked[0].tools][-2:] == ["run", "finish"]
    results = [message["content"] for message in asked[2].messages if message["role"] == "tool"]
    assert results[0] == "desk.py\nnotes/rules.md\ntides.py"
    assert results[1] == "[tides.py, lines 2 to 2 of 2]\n    return hour * 10"
    assert results[2] == "notes/rules.md:3: Twelve for each hour."
    assert results[3:] == ["changed tides.py", "exit status 0\nberth 36"]
    # what comes after finish is not done; and each turn keeps only what it added to the conversation
    assert attempt.work.turns[2].calls[1]["reason"] == "bad-arguments"
    assert [len(turn.exchange.exchange.ask.messages) for turn in attempt.work.turns] == [1, 2, 3]
    assert "`show` (`python3" in asked[0].messages[0]["content"]
    assert "`notes/*`" in asked[0].messages[0]["content"]


@pytest.mark.parametrize(
    ("given", "reason", "words"),
    [
        (("read_file", '{"path": "tides.py"'), "bad-json", "cannot be read"),
        (("read_file", "[1]"), "bad-json", "not a JSON object"),
        (("read_file", {"file": "tides.py"}), "bad-arguments", "needs path"),
        (("read_file", {"path": 7}), "bad-arguments", "must be text, not int"),
        (("read_file", {"path": "tides.py", "first_line": 99}), "bad-arguments", "has 2 lines"),
        (("bash", {"command": "rm -rf /"}), "unknown-tool", 'no tool "bash"'),
        (("read_file", {"path": "../../etc/passwd"}), "outside", "leads out"),
        (("write_file", {"path": "/etc/passwd", "content": "x"}), "outside", "leads out"),
        (("read_file", {"path": ".git/config"}), "outside", "history"),
        (("write_file", {"path": "a\x00b", "content": ""}), "bad-arguments", "characters that no path has"),
        (("write_file", {"path": "notes", "content": ""}), "bad-arguments", "in its way"),
        (("read_file", {"path": "tide.py"}), "no-such-file", "Did you mean tides.py"),
        (("read_file", {"path": "notes"}), "no-such-file", "is a folder"),
        (("list_files", {"path": "lib"}), "no-such-file", "no folder lib"),
        (("delete_file", {"path": "gone.py"}), "no-such-file", "no file gone.py"),
        (("replace_text", {"path": "tides.py", "old": "* 11", "new": ""}), "no-match", "nowhere"),
        (("replace_text", {"path": "tides.py", "old": "hour", "new": ""}), "several-matches", "2 places"),
        (("apply_patch", {"path": "tides.py", "diff": "@@ -1 +1 @@\n-x\n+y\n"}), "no-match", "did not apply"),
        (("apply_patch", {"path": "tides.py", "diff": "no diff"}), "bad-arguments", "holds no change"),
        (("search", {"pattern": "("}), "bad-pattern", "no regular expression"),
        (("search", {"pattern": "a" * 400}), "bad-pattern", "400 characters"),
        (("search", {"pattern": "(x+x+)+y", "path": "long.txt"}), "timed-out", "simpler pattern"),
        (("write_file", {"path": "big", "content": "x" * (MOST_FILE_CHARS + 1)}), "too-large", "at most"),
        (("run", {"command": "rm"}), "unknown-command", "show, hang, count"),
        (("run", {"command": "hang"}), "timed-out", "was stopped"),
    ],
)
def test_a_call_that_fails_is_told_so_counted_and_harms_nothing(tmp_path, given, reason, words):
    files = {**FILES, "long.txt": "x" * 5000 + "\n"}
    exercise = ticket(tmp_path / "twelve", files=files, limits={"wall": "1 s"})
    attempt, asked = play(exercise, [said("", [given]), said("", [FIX]), said("", [DONE])])
    (failed,) = attempt.work.turns[0].calls
    assert failed["reason"] == reason
    assert words in failed["result"]
    assert attempt.outcome is Outcome.PASSED
    # whatever the model wrote, what goes back to the server is JSON
    sent = next(message for message in asked[1].messages if message.get("tool_calls"))
    assert isinstance(json.loads(sent["tool_calls"][0]["function"]["arguments"]), dict)


STOP = said("I would change tides.py.")
AGAIN = said("", [call("read_file", path="desk.py")])


@pytest.mark.parametrize(
    ("replies", "table", "outcome", "ended"),
    [
        ([STOP], {}, Outcome.GAVE_UP, "stopped"),
        ([said("", [FIX]), STOP], {}, Outcome.PASSED, "stopped"),
        ([AGAIN], {}, Outcome.LOOPING, "looping"),
        ([said("", [FIX]), AGAIN], {}, Outcome.PASSED, "looping"),
        ([said("", [call("list_files")]), AGAIN], {"turns": 2}, Outcome.OVER_TURNS, "over-turns"),
        (
            [said("", [call("list_files"), call("list_files", path=".")])],
            {"calls": 2},
            Outcome.OVER_TURNS,
            "over-calls",
        ),
        ([AGAIN], {"tokens": 9}, Outcome.OVER_TURNS, "over-tokens"),
        ([said("", [call("run", command="count")])], {"wall": "1 ms"}, Outcome.OVER_TURNS, "over-time"),
        ([said("", [DONE])], {}, Outcome.WRONG_ANSWER, "finished"),
        (
            [said("", [FIX, call("write_file", path="notes/rules.md", content="x"), DONE])],
            {},
            Outcome.TOUCHED_PROTECTED,
            "finished",
        ),
        (
            [said("", [call("write_file", path="tides.py", content="def"), DONE])],
            {"build": "show"},
            Outcome.BROKE_BUILD,
            "finished",
        ),
        (
            [said(fault="answered with status 400: too long", over_context=True)],
            {},
            Outcome.OVER_CONTEXT,
            "over-context",
        ),
        ([said(fault="broke off")], {}, Outcome.SERVER_FAULT, "server-fault"),
        ([AGAIN, None], {}, Outcome.SERVER_FAULT, "server-fault"),
    ],
)
def test_how_a_run_ends_and_what_its_work_shows_decide_the_outcome(tmp_path, replies, table, outcome, ended):
    attempt, _ = play(ticket(tmp_path / "twelve", table=table), replies)
    assert (attempt.outcome, attempt.work.ended) == (outcome, ended)


def test_a_server_that_is_gone_before_the_first_turn_leaves_nothing(tmp_path):
    assert play(ticket(tmp_path / "twelve"), [None])[0] is None


def test_tools_called_in_blocks_of_json(tmp_path):
    exercise = ticket(tmp_path / "twelve")
    block = '```json\n{{"tool": "{}", "arguments": {}}}\n```\n'
    replies = [
        said("I look.\n\n" + block.format("list_files", "{}") + block.format("read_file", '{"path": "tides.py"}')),
        said('```json\n{"tool": "read_file", "arguments": {"path": \n```\n\n```json\n{"other": 1}\n```'),
        said(block.format("replace_text", json.dumps(FIX[1])) + block.format("finish", "{}")),
    ]
    attempt, asked = play(exercise, replies, "blocks")
    assert (attempt.outcome, attempt.work.form) == (Outcome.PASSED, "blocks")
    assert not asked[0].tools
    opening = asked[0].messages[0]["content"]
    assert "- `replace_text(path, old, new)`" in opening
    assert opening.endswith("a summary in text alone does not end it.")
    assert asked[1].messages[-1]["role"] == "user"
    assert "Result of read_file:\n[tides.py" in asked[1].messages[-1]["content"]
    assert [one["reason"] for one in attempt.work.turns[1].calls] == ["bad-json"]
    ways = [
        '<tool_call>\n{"name": "run", "arguments": {"command": "show"}}\n</tool_call>',
        '{"tool": "run", "arguments": {"command": "show"}}',
        '```json\n[{"tool": "run", "arguments": {"command": "show"}}]\n```',
    ]
    for way in ways:
        (only,) = calls_in(said(way), "blocks", first=1)
        assert (only.tool, only.arguments) == ("run", {"command": "show"})
    for nothing in ('```json\n{"name": "Teal", "berth": 3}\n```', "<tool_call>" * 50_000, '```json\n{"name": "x"\n```'):
        assert calls_in(said(nothing), "blocks", first=1) == []
    cut = said('```json\n{"tool": "write_file", "arguments": {"path": "a", "content": "x', reason="length")
    assert "cut at its limit of tokens" in calls_in(cut, "blocks", first=1)[0].fault


def test_only_the_edit_tools_of_the_plan_are_offered():
    names = [tool.name for tool in offered(("write_file",), ())]
    assert names == ["list_files", "read_file", "search", "write_file", "delete_file", "finish"]
    assert set(TOOLS) == {tool.name for tool in offered(("write_file", "replace_text", "apply_patch"), ("test",))}


def session(context, reply_tokens=100, **files):
    return Session(
        tree=Tree(files),
        table=WorkspaceTable(),
        tools=list(TOOLS.values()),
        form="functions",
        opening=[{"role": "user", "content": "Do it."}],
        context_tokens=context,
        reply_tokens=reply_tokens,
        run_command=lambda *_: "",
    )


def test_the_oldest_results_make_room_and_are_told_to_have_done_so():
    run = session(1000, **{f"f{n}": "word " * 150 for n in range(9)})
    for number in range(6):
        tokens = sum(len(m["content"]) for m in run.messages) // 4 or 1
        run.take(said("", [call("read_file", path=f"f{number}")], prompt_tokens=tokens))
        assert run.end is None
    results = [m["content"] for m in run.messages if m["role"] == "tool"]
    left = [text == LEFT_OUT for text in results]
    assert left == sorted(left, reverse=True)  # the oldest first
    assert left[0]
    assert not left[-1]
    assert sum(turn.results_left_out for turn in run.turns) == sum(left)
    # one result that is longer than the whole context ends the run
    huge = session(1000, big="word " * 3000)
    huge.take(said("", [call("read_file", path="big")], prompt_tokens=5))
    assert huge.end is End.OVER_CONTEXT


def test_the_same_call_is_no_circle_where_something_changed_between():
    run = session(100_000, a="1")
    for number in range(4):
        run.take(said("", [call("read_file", path="a"), call("write_file", path="a", content=str(number))]))
    assert run.end is None


def test_long_results_are_cut_and_a_file_is_read_on_from_there():
    run = session(10**6, long="".join(f"line {n}\n" for n in range(9000)))
    run.take(said("", [call("read_file", path="long"), call("search", pattern="line")]))
    read, sought = (one.result for one in run.turns[0].calls)
    assert "continue with first_line=" in read.splitlines()[0]
    assert sought.endswith("narrow the pattern or the path")
    assert len(read) <= 16_000


def test_a_patch_over_several_files_is_put_in_whole_or_not_at_all():
    files = {"a": "one\ntwo\n", "b": "three\n", "c": "four\n"}
    after = {"a": "one\n2\n", "d/e": "new\n", "c": "four\n"}
    assert patched(files, diff_of(files, after)) == (after, "")
    assert lines_changed(files, after) == 4
    run = session(10**6, **files)
    wrong = diff_of(files, {**files, "a": "1\ntwo\n", "c": "4\n"}).replace("-four", "-fore")
    run.take(said("", [call("apply_patch", path="a", diff=wrong)]))
    assert run.turns[0].calls[0].reason == "no-match"
    assert run.tree.files == files
    run.take(said("", [call("apply_patch", path="a", diff=wrong.replace("-fore", "-four"))]))
    assert run.tree.files == {**files, "a": "1\ntwo\n", "c": "4\n"}


class Client:
    """Replies to everything with one exchange."""

    def __init__(self, exchange):
        self.exchange, self.asked = exchange, []

    async def ask(self, ask):
        self.asked.append(ask)
        return self.exchange


@pytest.mark.parametrize(
    ("reply", "wanted", "form", "words"),
    [
        (said("", [call("list_files", path="src")]), "auto", "functions", ""),
        (said("src/"), "auto", "blocks", "called nothing"),
        (said(fault="answered with status 500: no template"), "auto", "blocks", "status 500"),
        (said(fault="answered with status 500: no template"), "functions", None, "are not measured"),
        (said("", [call("list_files")]), "blocks", "blocks", ""),
    ],
)
def test_the_preflight_check_finds_out_whether_functions_are_called(reply, wanted, form, words):
    candidate = SimpleNamespace(workspaces=WorkspacesTable(call_form=wanted))
    client = Client(reply)
    support = asyncio.run(find_call_form(client, candidate, {"seed": 1}))
    assert support.form == form
    assert words in support.words
    assert len(client.asked) == (wanted != "blocks")


def test_vetting_a_ticket(tmp_path):
    hidden = {"kind": "command", "name": "hidden tests", "cases": "more.json", "hidden": "hidden"}
    folder = tmp_path / "twelve"
    (folder / "hidden").mkdir(parents=True)
    (folder / "hidden" / "try.py").write_text("import tides\nassert tides.level(1) == 12\n")
    (folder / "more.json").write_text(
        json.dumps(
            [
                {"run": "{python} try.py", "by_hand": True},
                {"run": "{python} desk.py > out; exit 3", "exit": 3, "writes": {"out": "berth 36\n"}, "by_hand": True},
            ]
        )
    )
    decoys = [
        ("still-ten", "wrong-answer", {"tides.py": TIDES}),
        ("rules-changed", "touched-protected", {"notes/rules.md": "# Rules\n"}),
        ("not-python", "broke-build", {"tides.py": "def level(hour)\n"}),
    ]
    commands = {"show": "{python} desk.py"}
    exercise = ticket(folder, decoys=decoys, checks=[hidden], table={"build": "show", "commands": commands})
    assert vet_exercise(exercise, grader()).faults == ()
    wrong = [("still-ten", "passed", {"tides.py": FIXED + "\n"}), decoys[1]]
    table = {"commands": {"hang": "sleep 60", "tidy": "no-such-tool all"}}
    faults = vet_exercise(ticket(tmp_path / "other", decoys=wrong, table=table), grader()).faults
    assert any("a decoy is declared to pass" in fault for fault in faults)
    assert any('command "hang" fails on its own answer: still running' in fault for fault in faults)
    assert any('command "tidy" fails on its own answer: exit status 127' in fault for fault in faults)
    needs = ticket(tmp_path / "needs", table={"needs": ["kotlin"]})
    assert missing_here(needs) == "" or "kotlin" in missing_here(needs)


def test_a_workspace_that_cannot_be_trusted_is_refused_with_its_place(tmp_path):
    cases = [
        ("link", lambda folder: (folder / "workspace" / "etc").symlink_to("/etc"), "is a link or a device"),
        ("pipe", lambda folder: os.mkfifo(folder / "workspace" / "pipe"), "is a link or a device"),
        ("big", lambda folder: (folder / "workspace" / "big").write_text("x" * (5 * 2**20)), "holds too much"),
        ("bytes", lambda folder: (folder / "workspace" / os.fsdecode(b"a\xff")).touch(), "not UTF-8"),
        ("text", lambda folder: (folder / "workspace" / "x").write_bytes(b"\xff\xfe"), "UTF-8"),
        ("build", None, 'build names "make"'),
        ("base", None, 'no repository "gone"'),
        (
            "diff",
            lambda folder: (folder / "answer.diff").write_text("--- a/tides.py\n+++ b/tides.py\n@@\n-z\n+y\n"),
            "tides.py",
        ),
        ("answer", lambda folder: (folder / "answer.diff").unlink(), "is missing"),
    ]
    for name, spoil, words in cases:
        folder = tmp_path / name
        table = {"build": {"build": "make"}, "base": {"base": "gone"}}.get(name)
        with pytest.raises(InputError, match=words) as raised:
            ticket(folder, table=table)
            assert spoil is not None, f"{name} was taken"
            spoil(folder)
            load_exercise(CHECKS, folder)
        assert name in raised.value.where


def test_tickets_in_one_repository_are_no_duplicates_of_each_other(tmp_path):
    exercises = load_suite(CHECKS, find_suite("berthdesk-tickets", tmp_path)).exercises
    assert near_duplicates(exercises) == {}
    again = msgspec.structs.replace(exercises[0], id="again")
    assert near_duplicates((exercises[0], again)).keys() == {"again"}
