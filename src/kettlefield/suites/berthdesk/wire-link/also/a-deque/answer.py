from collections import deque


class Sender:
    def __init__(self):
        self.state = None

    def hello(self, step):
        self.state = {"next": 0, "flight": {}, "queue": deque(), "heard": step}

    def give(self, step, name, urgent):
        if self.state is None:
            return []
        if urgent:
            return [self._out(step, name)]
        self.state["queue"].append(name)
        return self._drain(step)

    def receipt(self, step, count):
        if self.state is None:
            return []
        self.state["heard"] = step
        flight = self.state["flight"]
        if count in flight:
            for number in list(flight):
                del flight[number]
                if number == count:
                    break
        return self._drain(step)

    def refusal(self, step, count):
        if self.state is None:
            return []
        self.state["heard"] = step
        self.state["flight"].pop(count, None)
        return self._drain(step)

    def tick(self, step):
        if self.state is None:
            return []
        again = []
        for number, (name, last, tries) in self.state["flight"].items():
            if last + 18 <= step:
                again.append((number, name, tries))
        tired = [number for number, _, tries in again if tries >= 5]
        if tired or self.state["heard"] + 4320 <= step:
            self.state = None
            return ["closed"]
        for number, name, tries in again:
            self.state["flight"][number] = (name, step, tries + 1)
        return [[number, name] for number, name, _ in again]

    def _drain(self, step):
        sent = []
        while self.state["queue"] and len(self.state["flight"]) <= 3:
            sent.append(self._out(step, self.state["queue"].popleft()))
        return sent

    def _out(self, step, name):
        number = self.state["next"]
        self.state["next"] = 0 if number == 249 else number + 1
        self.state["flight"][number] = (name, step, 1)
        return [number, name]
