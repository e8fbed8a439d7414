"""quaylib 3: spans of the desk week, boards of spans, tides and shares. Made for the berth desk of Saltmarsh Ferries."""

DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat")
WEEK = 10080
START = 240  # the desk week begins on Sunday at 04:00


class QuayError(Exception):
    """What the library refuses."""


def mark(text):
    day, _, clock = text.partition(" ")
    hours, colon, minutes = clock.partition(":")
    if day not in DAYS or not colon or not (hours.isdigit() and minutes.isdigit()):
        raise QuayError(f"not a mark: {text}")
    if int(hours) > 23 or int(minutes) > 59:
        raise QuayError(f"not a mark: {text}")
    return (DAYS.index(day) * 1440 + int(hours) * 60 + int(minutes) - START) % WEEK


def write_mark(minute):
    day, rest = divmod((minute + START) % WEEK, 1440)
    return f"{DAYS[day]} {rest // 60:02d}:{rest % 60:02d}"


class Span:
    def __init__(self, first, last, label=""):
        if last < first:
            raise QuayError("a span ends before it begins")
        self.first, self.last, self.label = first, last, label

    @classmethod
    def of(cls, begin, end, label=""):
        first, last = mark(begin), mark(end) - 1
        return cls(first, last if last >= first else last + WEEK, label)

    @property
    def minutes(self):
        return self.last - self.first + 1

    def moved(self, minutes):
        return Span(self.first + minutes, self.last + minutes, self.label)

    def padded(self, before, after):
        return Span(self.first - before, self.last + after, self.label)

    def overlaps(self, other):
        return self.first <= other.last and other.first <= self.last

    def meets(self, other):
        return self.last + 1 == other.first or other.last + 1 == self.first

    def common(self, other):
        if not self.overlaps(other):
            return None
        return Span(max(self.first, other.first), min(self.last, other.last), self.label)

    def without(self, other):
        if not self.overlaps(other):
            return [self]
        parts = []
        if self.first < other.first:
            parts.append(Span(self.first, other.first - 1, self.label))
        if other.last < self.last:
            parts.append(Span(other.last + 1, self.last, self.label))
        return parts

    def __eq__(self, other):
        return (self.first, self.last, self.label) == (other.first, other.last, other.label)

    def __hash__(self):
        return hash((self.first, self.last, self.label))

    def __repr__(self):
        return f"Span({self.first}, {self.last}, {self.label!r})"

    def __str__(self):
        return f"{write_mark(self.first)} - {write_mark(self.last + 1)}" + (f" {self.label}" if self.label else "")


class Board:
    def __init__(self, spans=()):
        self.spans = []
        for span in spans:
            self.add(span)

    def add(self, span):
        if any(span.overlaps(other) for other in self.spans):
            raise QuayError(f"taken: {span}")
        self.spans.append(span)
        self.spans.sort(key=lambda one: one.first)
        return self

    def force(self, span):
        pushed = [other for other in self.spans if other.overlaps(span)]
        self.spans = [other for other in self.spans if not other.overlaps(span)]
        self.add(span)
        return pushed

    def squeeze(self, span):
        left = [span]
        for other in self.spans:
            left = [part for one in left for part in one.without(other)]
        for part in left:
            self.add(part)
        return left

    def at(self, minute):
        return next((span for span in self.spans if span.first <= minute <= span.last), None)

    def gaps(self, within, least=1):
        left = [Span(within.first, within.last)]
        for other in self.spans:
            left = [part for one in left for part in one.without(other)]
        return [gap for gap in left if gap.minutes >= least]

    def fused(self):
        board = Board()
        for span in self.spans:
            last = board.spans[-1] if board.spans else None
            if last is not None and last.label == span.label and last.meets(span):
                board.spans[-1] = Span(last.first, span.last, last.label)
            else:
                board.spans.append(span)
        return board

    def totals(self):
        sums = {}
        for span in self.spans:
            sums[span.label] = sums.get(span.label, 0) + span.minutes
        return dict(sorted(sums.items(), key=lambda item: (-item[1], item[0])))

    def total(self, label):
        return self.totals().get(label, 0)

    def only(self, label):
        board = Board()
        board.spans = [span for span in self.spans if span.label == label]
        return board

    def __len__(self):
        return len(self.spans)

    def __iter__(self):
        return iter(self.spans)


class Tide:
    def __init__(self, high, period=745):
        self.high, self.period = high, period

    def next_high(self, minute):
        return minute + (self.high - minute) % self.period

    def highs(self, within):
        first, found = self.next_high(within.first), []
        while first <= within.last:
            found.append(first)
            first += self.period
        return found

    def open(self, within, before, after):
        spans = []
        for high in self.highs(Span(within.first - after, within.last + before)):
            part = Span(high - before, high + after).common(within)
            if part is not None:
                spans.append(Span(part.first, part.last))
        return spans


def quarters(minutes):
    return -(-minutes // 15)


def shares(total, weights):
    whole = sum(weights.values())
    if whole <= 0:
        raise QuayError("no weight to share by")
    parts = {name: total * weight // whole for name, weight in weights.items()}
    left = total - sum(parts.values())
    order = sorted(weights, key=lambda name: (-(total * weights[name] % whole), -weights[name], name))
    for name in order[:left]:
        parts[name] += 1
    return parts
