"""The gate that a run waits at until its limits are set from outside.

Setting limits by a command in front of the program costs a start of its own, longer than all the rest of
our work on a run; and a process can only be put into a control group before it has children.
"""

import contextlib
import json
import os
import resource

from kettlefield.sandbox.isolation import bounds_of
from kettlefield.sandbox.job import Job
from kettlefield.sandbox.memory_group import MemoryGroup

_RESOURCES = {
    "cpu": resource.RLIMIT_CPU,
    "fsize": resource.RLIMIT_FSIZE,
    "nofile": resource.RLIMIT_NOFILE,
    "core": resource.RLIMIT_CORE,
    "as": resource.RLIMIT_AS,
    "nproc": resource.RLIMIT_NPROC,
}


class Gate:
    """Two pipes to an isolation: it tells the program's process id on one and waits on the other."""

    def __init__(self) -> None:
        waits, self._go = os.pipe()
        self._told, tells = os.pipe()
        self.theirs = (waits, tells)

    def open(self, job: Job, group: MemoryGroup | None) -> int | None:
        """Set a job's limits on the process behind the gate and let it go; its process id.

        An isolation that failed before it got that far tells nothing (None); it ends by itself.
        """
        pid = None
        for descriptor in self.theirs:
            os.close(descriptor)
        try:
            pid = self._read_pid()
            if pid is not None:
                for name, bound in bounds_of(job).items():
                    resource.prlimit(pid, _RESOURCES[name], bound)
                if group is not None and group.door is not None:
                    # where the group takes nobody in, looking from outside still bounds the memory
                    with contextlib.suppress(OSError):
                        group.door.write_text(str(pid))
                os.write(self._go, b"1")
        except ProcessLookupError:
            return None
        finally:
            os.close(self._go)
            os.close(self._told)
        return pid

    def abandon(self) -> None:
        """Close everything: nothing was started."""
        for descriptor in (*self.theirs, self._go, self._told):
            os.close(descriptor)

    def _read_pid(self) -> int | None:
        said = b""
        while b"}" not in said:
            chunk = os.read(self._told, 4096)
            if not chunk:
                return None
            said += chunk
        with contextlib.suppress(ValueError, KeyError):
            return int(json.loads(said)["child-pid"])
        return None
