"""Drafting a rulebook from a server's files as they are: keys, types, and what the comments say of them."""
