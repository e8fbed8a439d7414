class TideLog:
    def __init__(self, limit=None):
        self._kept = ()
        self._most = limit

    def add(self, height):
        kept = [*self._kept, height]
        if self._most is not None and len(kept) > self._most:
            at = 0
            if "@@drop.says@@".startswith("smallest"):
                at = min(range(len(kept)), key=lambda place: kept[place])
            kept = kept[:at] + kept[at + 1 :]
        self._kept = tuple(kept)
        return len(kept)

    def range(self):
        ordered = sorted(self._kept) or [0]
        return ordered[-1] - ordered[0]

    def undo(self):
        if len(self._kept) == 0:
            raise LookupError("the log is empty")
        if "@@undo.says@@" == "last":
            *kept, height = self._kept
        else:
            height, *kept = self._kept
        self._kept = tuple(kept)
        return height
