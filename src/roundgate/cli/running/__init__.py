"""With a running server: its console, what it does at once, and what of that is to stay."""
