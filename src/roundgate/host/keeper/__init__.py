"""The keeper: the small background process that owns a running server, its console, its log and its life.

It imports little, for there is one for each server: no Typer, no Rich, no pathlib.
"""
