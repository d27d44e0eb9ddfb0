"""Notices outward: what happened, in fields that a message can name."""
