"""Which commands there are, and how a call finds its own: only that one is loaded."""
