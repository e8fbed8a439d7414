"""The berth desk of Saltmarsh Ferries."""
