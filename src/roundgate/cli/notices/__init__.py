"""The command for notices."""
