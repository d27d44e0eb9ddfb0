"""The command ``rulebook``: questions, tables and pictures, edits."""
