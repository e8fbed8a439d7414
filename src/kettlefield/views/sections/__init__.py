"""The sections of a report, in the order of a reader's questions."""
