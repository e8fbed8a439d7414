"""Hostile programs: what must be true after each has run, under every isolation that works here."""

import os
import socket
import subprocess
import sys
import threading
import time

import msgspec
import psutil
import pytest

from kettlefield.core.errors import RigError
from kettlefield.languages.all_languages import find_toolchain
from kettlefield.sandbox.isolation import Bubblewrap, NoIsolation, UserNamespaces
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import Sandbox, available_isolation

LIMITS = RunLimits(wall_s=4, cpu_s=2, memory_bytes=256 * 2**20, output_bytes=100_000)
BACKENDS = [Bubblewrap(), UserNamespaces()]


def run(code, isolation, *, language="python", limits=LIMITS, stdin=b""):
    toolchain = find_toolchain(language)
    name = "a.py" if language == "python" else "a.js"
    flags = ("-S", "-s", "-E") if language == "python" else ("--max-old-space-size=128",)
    job = Job(
        argv=(toolchain.program, *flags, name),
        limits=limits,
        files={name: code},
        stdin=stdin,
        mounts=toolchain.mounts,
        bound_address_space=language == "python",
        result_fd=False,
    )
    return Sandbox(isolation).run(job)


@pytest.fixture(params=BACKENDS, ids=lambda backend: backend.name.replace(" ", "-"))
def isolation(request):
    return request.param


def test_a_friendly_program_reads_and_writes(isolation):
    code = "import sys; open('/tmp/a','w').write('x'); open('b','w').write('y'); print(sys.stdin.read() + 'out')"
    found = run(code, isolation, stdin=b"in ")
    assert (found.exit_status, found.stdout, found.rig_fault) == (0, b"in out\n", None)
    assert run("console.log(1 + 1)", isolation, language="javascript").stdout == b"2\n"
    by_name = (
        "text = open('/dev/stdin').read()\nopen('/dev/stdout', 'w').write(text)\nopen('/dev/stderr', 'w').write('e')"
    )
    found = run(
        by_name,
        isolation,
        stdin=b"x" * 300_000,
        limits=RunLimits(wall_s=4, cpu_s=2, memory_bytes=2**28, output_bytes=2**20),
    )
    assert (found.exit_status, len(found.stdout), found.stderr) == (0, 300_000, b"e")


@pytest.mark.parametrize(
    ("code", "status"), [("raise SystemExit(7)", 7), ("import os; os.kill(os.getpid(), 11)", 139), ("1/0", 1)]
)
def test_the_exit_status_is_the_programs_own(isolation, code, status):
    unhurried = RunLimits(wall_s=60, cpu_s=20, memory_bytes=256 * 2**20, output_bytes=100_000)
    found = run(code, isolation, limits=unhurried)
    assert (found.exit_status, found.timed_out, found.over_limit, found.rig_fault) == (status, False, None, None)


STOPPED_IN_TIME = {
    "endless loop": "while True: pass",
    "sleep": "import time; time.sleep(60)",
    "ignores signals": "import signal\nfor s in range(1, 32):\n    try: signal.signal(s, signal.SIG_IGN)\n"
    "    except Exception: pass\nwhile True: pass",
    "closes its output and stays": "import os, time\nos.close(1); os.close(2)\ntime.sleep(60)",
}


@pytest.mark.parametrize("name", STOPPED_IN_TIME)
def test_what_does_not_end_is_stopped(isolation, name):
    limits = RunLimits(wall_s=1.5, cpu_s=1, memory_bytes=2**28, output_bytes=1000)
    began = time.monotonic()
    assert run(STOPPED_IN_TIME[name], isolation, limits=limits).timed_out
    assert time.monotonic() - began < 30  # it ended at all; the exact moment is the machine's affair


OVER_LIMIT = {
    "output": ("while True: print('x' * 1000)", "output"),
    "output on stderr": ("import sys\nwhile True: sys.stderr.write('x' * 1000)", "output"),
    "memory of many processes": (
        "import os, time\nfor _ in range(20):\n    if os.fork() == 0:\n        a = bytearray(40 * 2**20)\n"
        "        a[::4096] = b'x' * len(a[::4096])\n        time.sleep(3)\n        os._exit(0)\ntime.sleep(3)",
        "memory",
    ),
}


@pytest.mark.parametrize("name", OVER_LIMIT)
def test_too_much_is_stopped(isolation, name):
    code, word = OVER_LIMIT[name]
    assert word in (run(code, isolation).over_limit or "")


CONTAINED = {
    # each prints "safe" when it could not do what it tried
    "memory bomb": "try:\n    a = bytearray(2**31)\nexcept MemoryError:\n    print('safe')",
    "fork bomb": "import os, time\nfor _ in range(500):\n    try:\n        if os.fork() == 0: time.sleep(2); os._exit(0)\n"
    "    except OSError:\n        print('safe'); break",
    "huge file": "import signal\nsignal.signal(signal.SIGXFSZ, signal.SIG_IGN)\ntry:\n"
    "    open('/tmp/f','wb').write(b'x' * (100 * 2**20))\nexcept OSError:\n    print('safe')",
    "many files": "try:\n    for i in range(40): open(f'/tmp/{i}','wb').write(b'x' * (8 * 2**20))\n"
    "except OSError:\n    print('safe')",
    "shared memory": "try:\n    for i in range(40): open(f'/dev/shm/{i}','wb').write(b'x' * (8 * 2**20))\n"
    "except OSError:\n    print('safe')",
    "write outside": "import os\nfailed = 0\nfor p in ('/usr/x','/x','/dev/x','/etc/x','/answer/.harness/x','/proc/sys/x'):\n"
    "    try: open(p,'w')\n    except OSError: failed += 1\nprint('safe' if failed == 6 else failed)",
    "change its own answer": "try:\n    open('a.py','a').write('#')\nexcept OSError:\n    print('safe')",
    "home": "import os\nprint('safe' if not os.path.exists(os.path.expanduser('~root')+'/.bashrc') "
    "and os.listdir('/tmp') == [] and not os.path.exists('/home') else 'seen')",
    "environment": "import os\nprint('safe' if 'KETTLEFIELD_CANARY' not in os.environ else 'seen')",
    "processes": "import os\nown = [p for p in os.listdir('/proc') if p.isdigit()]\nprint('safe' if len(own) < 8 else own)",
    "outside network": "import socket\ntry:\n    socket.create_connection(('127.0.0.1', PORT), 1)\n    print('open')\n"
    "except OSError:\n    print('safe')",
    "abstract socket": "import socket\ns = socket.socket(socket.AF_UNIX)\ntry:\n    s.connect('\\0CANARY')\n"
    "    print('open')\nexcept OSError:\n    print('safe')",
    "becoming root": "import os\ntry:\n    os.setuid(0)\n    print('safe' if not os.access('/etc/shadow', os.R_OK) else 'root')\n"
    "except OSError:\n    print('safe')",
    "mounting": "import ctypes\nprint('safe' if ctypes.CDLL(None).mount(b'none', b'/tmp', b'tmpfs', 0, b'') else 'mounted')",
    "killing all": "import os, signal\nsignal.signal(15, signal.SIG_IGN)\ntry:\n    os.kill(-1, 15)\nexcept OSError:\n    pass\n"
    "print('safe')",
    "link out": "import os\nos.symlink('/etc/shadow', '/tmp/l')\ntry:\n    open('/tmp/l')\n    print('read')\n"
    "except OSError:\n    print('safe')",
    "the host's root": "import os\ntry:\n    seen = os.listdir('/proc/1/root/')\nexcept OSError:\n    seen = []\n"
    "print('safe' if 'home' not in seen and 'var' not in seen else seen)",
    "device nodes": "import os, stat\ntry:\n    os.mknod('/tmp/m', 0o600 | stat.S_IFBLK, os.makedev(8, 0))\n    print('made')\n"
    "except OSError:\n    print('safe')",
}


@pytest.mark.parametrize("name", CONTAINED)
def test_a_hostile_program_gets_nowhere_with(isolation, name, monkeypatch):
    monkeypatch.setenv("KETTLEFIELD_CANARY", "1")
    with socket.create_server(("127.0.0.1", 0)) as server, socket.socket(socket.AF_UNIX) as abstract:
        canary = f"kettlefield-canary-{os.getpid()}"  # tests side by side share the host's names
        abstract.bind(f"\0{canary}")
        abstract.listen()
        code = CONTAINED[name].replace("PORT", str(server.getsockname()[1])).replace("\\0CANARY", f"\\0{canary}")
        found = run(code, isolation)
    assert found.stdout.decode().split("\n")[0] == "safe", found


def test_a_daemon_dies_with_the_run(isolation):
    mark = f"canary-{time.monotonic_ns()}"
    code = (
        "import os, time\n"
        "if os.fork() == 0:\n    os.setsid()\n    if os.fork() == 0:\n"
        f"        os.execvp('sleep', ['{mark}', '61'])\n    os._exit(0)\nos.wait(); time.sleep(0.1)"
    )
    assert run(code, isolation).exit_status == 0
    alive = [p for p in psutil.process_iter(["cmdline"]) if mark in " ".join(p.info["cmdline"] or [])]
    assert alive == []


def test_runs_side_by_side_do_not_see_each_other(isolation):
    code = "import os, time\nopen('/tmp/x', 'w')\ntime.sleep(0.3)\nprint(sorted(os.listdir('/tmp')), len(os.listdir('/answer')))"
    outs = []
    threads = [threading.Thread(target=lambda: outs.append(run(code, isolation).stdout)) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert outs == [b"['x'] 1\n"] * 4


def test_no_trace_of_a_run_is_left_on_the_host(tmp_path, monkeypatch, isolation):
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    tmp_path.chmod(0o755)
    for parent in tmp_path.parents:  # the run's own user id must be able to reach the folder
        if str(parent).startswith("/tmp/"):
            parent.chmod(0o755)
    assert run("open('/tmp/x','w'); open('y','w')", isolation).exit_status == 0
    assert list(tmp_path.iterdir()) == []


def test_as_an_ordinary_user_the_isolation_holds_too():
    import os
    import subprocess
    import sys

    if os.geteuid() != 0:
        pytest.skip("already an ordinary user: the other tests say it all")
    code = (
        "import os\n"
        "from kettlefield.sandbox.isolation import Bubblewrap, UserNamespaces\n"
        "from kettlefield.sandbox.job import Job, RunLimits\nfrom kettlefield.sandbox.runner import Sandbox\n"
        # all is loaded by now: the checkout may lie where that user cannot look
        "os.setgroups([]); os.setresgid(12345, 12345, 12345); os.setresuid(12345, 12345, 12345)\n"
        "limits = RunLimits(wall_s=5, cpu_s=2, memory_bytes=2**28, output_bytes=1000)\n"
        "for backend in (Bubblewrap(), UserNamespaces()):\n"
        "    job = Job(argv=('sh', '-c', 'id -u; ls /home /root; echo x > /usr/x'), limits=limits, files={}, result_fd=False)\n"
        "    print(os.geteuid(), Sandbox(backend).run(job))\n"
    )
    environment = {"PATH": os.environ["PATH"], "HOME": "/nonexistent"}
    command = [sys.executable, "-c", code]
    done = subprocess.run(command, capture_output=True, text=True, env=environment, cwd="/", check=False)
    assert done.stdout.count("exit_status=2") == 2, done.stdout + done.stderr  # ls and the write fail, sh says 2
    assert done.stdout.count("rig_fault=None") == done.stdout.count("12345 RunReport") == 2


def test_without_any_isolation_the_tool_refuses(monkeypatch):
    monkeypatch.setattr("kettlefield.sandbox.runner.shutil.which", lambda name: None)
    available_isolation.cache_clear()
    try:
        with pytest.raises(RigError, match="apt-get install bubblewrap"):
            available_isolation()
    finally:
        available_isolation.cache_clear()


def test_an_isolation_that_fails_is_a_fault_of_the_rig():
    class Broken(Bubblewrap):
        def command(self, job, staged, uid):
            return ["bwrap", "--ro-bind", "/does/not/exist", "/x", "true"]

    class Refused(Broken):
        """As a host under load does: refused once, then let in."""

        starts = 0

        def command(self, job, staged, uid):
            self.starts += 1
            return super().command(job, staged, uid) if self.starts == 1 else Bubblewrap().command(job, staged, uid)

    class OnceAtHome(Bubblewrap):
        """Its program is gone."""

        def command(self, job, staged, uid):
            gone = {"/usr/bin/env": "/gone/env"}
            argv = tuple(gone.get(word, word) for word in job.argv)
            return super().command(msgspec.structs.replace(job, argv=argv), staged, uid)

    assert "bwrap" in run("print(1)", Broken()).rig_fault
    limits = RunLimits(wall_s=4, cpu_s=2, memory_bytes=2**28, output_bytes=100)
    found = Sandbox(OnceAtHome()).run(Job(argv=("/usr/bin/env", "true"), limits=limits, files={}, result_fd=False))
    assert "/gone/env" in found.rig_fault
    assert (run("print(1)", refused := Refused()).stdout, refused.starts) == (b"1\n", 2)


@pytest.mark.parametrize(("words", "status"), [("bwrap: no room for a namespace", 1), ("setpriv: cannot run it", 127)])
def test_a_program_that_speaks_as_the_isolation_does_is_not_taken_for_it(isolation, words, status):
    found = run(f"import sys; print({words!r}, file=sys.stderr); sys.exit({status})", isolation)
    assert (found.exit_status, found.rig_fault) == (status, None)


def test_no_isolation_still_bounds_time_and_memory():
    assert run(
        "while True: pass", NoIsolation(), limits=RunLimits(wall_s=1, cpu_s=1, memory_bytes=2**28, output_bytes=99)
    ).timed_out
    assert run("try:\n    bytearray(2**31)\nexcept MemoryError:\n    print('safe')", NoIsolation()).stdout == b"safe\n"


def test_what_a_busy_host_takes_is_not_counted_against_a_program(isolation):
    """All on one processor: the program needs half its time limit, and gets a quarter of the processor."""
    everywhere = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(everywhere)})
    # sessions of their own: the kernel may share a processor among sessions, not processes
    hogs = [subprocess.Popen([sys.executable, "-c", "while True: pass"], start_new_session=True) for _ in range(3)]
    try:
        limits = RunLimits(wall_s=2.5, cpu_s=10, memory_bytes=2**28, output_bytes=1000)
        found = run("import time\nwhile time.process_time() < 1.2: pass\nprint('flood')", isolation, limits=limits)
    finally:
        os.sched_setaffinity(0, everywhere)
        for hog in hogs:
            hog.kill()
            hog.wait()
    assert (found.timed_out, found.stdout) == (False, b"flood\n"), found
    assert found.wall_s > limits.wall_s and found.waited_s > 0.4 * found.wall_s, found


@pytest.mark.parametrize("backend", [Bubblewrap(), UserNamespaces()], ids=lambda b: b.name)
def test_a_control_group_bounds_what_nobody_had_time_to_look_at(backend, monkeypatch):
    from concurrent.futures import ThreadPoolExecutor

    from kettlefield.sandbox import limits as memory_group
    from kettlefield.sandbox import runner

    if not memory_group.can_bound_memory():
        pytest.skip("the kernel lets us make no group here: runs are bounded by looking alone")
    monkeypatch.setattr(runner, "LOOK_S", 3600)
    limits = RunLimits(wall_s=20, cpu_s=10, memory_bytes=2**27, output_bytes=2**16, scratch_bytes=2**20)
    code = "import os\nfor _ in range(4):\n    if os.fork() == 0: break\nx = bytearray(90 * 2**20)\nimport time\ntime.sleep(3)\n"
    with ThreadPoolExecutor(1) as grader:  # a thread that is a member of its group, as graders are
        found = grader.submit(run, code, backend, limits=limits).result()
    assert found.over_limit is not None and "memory" in found.over_limit, found
    assert run("print('ebb')", backend).stdout == b"ebb\n"


def test_processor_time_and_peak_memory_come_from_the_kernel():
    from concurrent.futures import ThreadPoolExecutor

    from kettlefield.sandbox import limits as memory_group

    code = "import os\nif os.fork() == 0:\n    sum(range(10**7))\nelse:\n    os.wait()\nx = bytearray(50 * 2**20)\n"
    for backend in (Bubblewrap(), UserNamespaces()):
        with ThreadPoolExecutor(1) as grader:  # a thread that is a member of its group, as graders are
            busy, idle = (grader.submit(run, text, backend).result() for text in (code, "pass"))
        assert busy.cpu_s > 3 * idle.cpu_s > 0, (backend.name, busy.cpu_s, idle.cpu_s)
        if memory_group.can_bound_memory():
            # 50 MiB at the end, in the child and then in its parent
            assert busy.peak_bytes - idle.peak_bytes > 40 * 2**20, (backend.name, busy.peak_bytes, idle.peak_bytes)
