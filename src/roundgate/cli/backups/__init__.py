"""The commands about backups."""
