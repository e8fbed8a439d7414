def arrive(state, ship, berth):
    state[ship] = berth
    return f"{ship} at {berth}"


def leave(state, ship):
    if ship not in state:
        return f"{ship} is not here"
    del state[ship]
    return f"{ship} left"


def move(state, ship, berth):
    if ship not in state:
        return f"{ship} is not here"
    old, state[ship] = state[ship], berth
    return f"{ship} from {old} to {berth}"


def where(state, ship):
    return state.get(ship, "nowhere")


def count(state):
    return str(len(state))


COMMANDS = {"arrive": (arrive, 2), "leave": (leave, 1), "move": (move, 2), "where": (where, 1), "count": (count, 0)}


def handle(state, line):
    command, *words = line.split() or [""]
    if command not in COMMANDS:
        return f"unknown: {command}" if command else ""
    function, number = COMMANDS[command]
    return function(state, *words[:number])


def run(lines):
    state = {}
    return [handle(state, line) for line in lines]
