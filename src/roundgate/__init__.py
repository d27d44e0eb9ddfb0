"""Round Gate: edit a game server's settings, check them, and bring them into force, proven or undone."""

__version__ = "0.1.0"
