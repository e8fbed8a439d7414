"""A simulated inference server and accelerator, for the demo and the tests."""
