PAUSE = 18
TIMES = 5
SILENCE = 4320
MOST = 4


class Sender:
    def __init__(self):
        self._close()
        self._count = 0
        self._heard = 0

    def hello(self, step):
        self._close()
        self._open = True
        self._count = 0
        self._heard = step

    def give(self, step, name, urgent):
        if not self._open:
            return []
        if urgent:
            return [self._send(step, name)]
        self._line.append(name)
        return self._fill(step)

    def receipt(self, step, count):
        self._heard = step
        counts = [frame["count"] for frame in self._waiting]
        if count in counts:
            del self._waiting[: counts.index(count) + 1]
        return self._fill(step)

    def refusal(self, step, count):
        self._heard = step
        self._waiting = [frame for frame in self._waiting if frame["count"] != count]
        return self._fill(step)

    def tick(self, step):
        if not self._open:
            return []
        due = [frame for frame in self._waiting if step - frame["sent"] >= PAUSE]
        if any(frame["times"] == TIMES for frame in due) or step - self._heard >= SILENCE:
            self._close()
            return ["closed"]
        for frame in due:
            frame["sent"] = step
            frame["times"] += 1
        return [[frame["count"], frame["name"]] for frame in due]

    def _close(self):
        self._open = False
        self._waiting = []
        self._line = []

    def _fill(self, step):
        out = []
        while self._line and len(self._waiting) < MOST:
            out.append(self._send(step, self._line.pop(0)))
        return out

    def _send(self, step, name):
        frame = {"count": self._count, "name": name, "sent": step, "times": 1}
        self._count = (self._count + 1) % 250
        self._waiting.append(frame)
        return [frame["count"], name]
