CREATE TABLE passenger (
    id INTEGER PRIMARY KEY,
    sailing TEXT NOT NULL,
    name TEXT NOT NULL
);
