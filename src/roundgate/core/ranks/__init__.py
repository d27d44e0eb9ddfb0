"""Ranks: groups of permissions, who is in them, and what that means for each person."""
