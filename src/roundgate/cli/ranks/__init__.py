"""The command ``ranks``: questions, tables and pictures, edits."""
