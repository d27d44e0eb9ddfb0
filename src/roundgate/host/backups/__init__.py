"""Backups of servers: archives with a manifest of digests, verified after they are written."""
