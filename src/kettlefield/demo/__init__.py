"""The simulated server and accelerator, the little model, and the demo's folders."""
