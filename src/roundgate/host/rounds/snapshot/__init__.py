"""The files that a round saves before it writes, and how long they stay."""
