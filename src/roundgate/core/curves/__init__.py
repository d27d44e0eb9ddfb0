"""Levels and what they need and grant: read out of records, compared with what can be bought, and made again."""
