"""The sections of a report, in the order of the questions that a reader has."""
