"""Asking a running server: its ports, and the values that it has."""
