"""Notices by webhook and by mail: written down by whoever has something to tell, sent by another process."""
