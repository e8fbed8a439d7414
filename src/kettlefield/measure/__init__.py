"""Procedures that time and weigh a running server, and the instruments' own error."""
