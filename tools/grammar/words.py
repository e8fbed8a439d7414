"""What the berth desk talks about: the words that fill the grammar's places."""

# one and many of things that are counted or measured
NUMBERS = (
    ("fare", "fares"), ("tide", "tides"), ("delay", "delays"), ("depth", "depths"), ("load", "loads"),
    ("speed", "speeds"), ("wait", "waits"), ("draught", "draughts"), ("length", "lengths"), ("weight", "weights"),
    ("toll", "tolls"), ("swell", "swells"), ("gap", "gaps"), ("berth", "berths"), ("seat", "seats"),
    ("crate", "crates"), ("shift", "shifts"), ("knot", "knots"), ("level", "levels"), ("ticket", "tickets"),
)  # fmt: skip
# one and many of things that have names
NAMES = (
    ("port", "ports"), ("ship", "ships"), ("crew", "crews"), ("label", "labels"), ("route", "routes"),
    ("cabin", "cabins"), ("buoy", "buoys"), ("pier", "piers"), ("lamp", "lamps"), ("flag", "flags"),
    ("van", "vans"), ("deck", "decks"), ("guest", "guests"), ("cargo", "cargoes"),
)  # fmt: skip
TEXTS = ("code", "title", "notice", "remark", "signal", "stamp", "entry", "mark")
TABLES = ("stock", "prices", "rota", "ledger", "chart", "store", "roster", "quotas")
ROWS = ("sailings", "bookings", "landings", "parcels", "repairs", "calls")
NAME_FIELDS = ("port", "ship", "deck", "crew", "cabin", "route")
NUMBER_FIELDS = ("fare", "wait", "load", "seats", "delay", "weight")
ANSWERS = (
    ("late", "early"), ("full", "free"), ("high", "low"), ("open", "shut"), ("wet", "dry"), ("heavy", "light"),
    ("sail", "stay"), ("near", "far"),
)  # fmt: skip
VERBS = (
    "sift", "tally", "check", "sort", "scan", "note", "plan", "clear", "rank", "trim", "weigh", "list", "mend", "fold",
    "pack", "log", "match", "draw", "post", "read",
)  # fmt: skip
SIGNS = ("-", "/", ":", "+", ".", "_")
LETTERS = tuple("abcdefghklmnoprstuw")
OPENINGS = (
    "The berth desk asks for this.",
    "This is for pier {n}.",
    "The tide turns at {n}.",
    "The desk opens at {n}.",
    "Ferry {n} leaves soon.",
    "It is for the harbour log.",
)
WORDS = ("north", "gull", "reed", "sand", "tern", "kelp", "wrack", "skua", "marl", "dune", "cove", "spit")
