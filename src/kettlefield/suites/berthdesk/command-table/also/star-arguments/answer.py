def _needs(function):
    def checked(state, ship, *rest):
        if ship not in state:
            return ship + " is not here"
        return function(state, ship, *rest)
    return checked


def arrive(state, ship, berth, *_):
    state[ship] = berth
    return ship + " at " + berth


def leave(state, ship, *_):
    if state.pop(ship, None) is None:
        return ship + " is not here"
    return ship + " left"


def move(state, ship, berth, *_):
    if ship in state:
        text = f"{ship} from {state[ship]} to {berth}"
        state[ship] = berth
        return text
    return ship + " is not here"


def where(state, ship, *_):
    return state[ship] if ship in state else "nowhere"


def count(state, *_):
    return f"{len(state)}"


COMMANDS = dict(arrive=arrive, leave=leave, move=move, where=where, count=count)
COMMANDS[""] = lambda state, *_: ""


def handle(state, line):
    words = line.split() or [""]
    command = COMMANDS.get(words[0])
    if command is None:
        return "unknown: " + words[0]
    return command(state, *words[1:])


def run(lines):
    state = {}
    replies = []
    for line in lines:
        replies.append(handle(state, line))
    return replies
