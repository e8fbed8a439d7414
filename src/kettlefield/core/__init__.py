"""Pure computation: no I/O, no clock, no other package of ours."""
