"""A server's logs as they grow: their last lines, what has come since, and patterns that are too slow for them."""
