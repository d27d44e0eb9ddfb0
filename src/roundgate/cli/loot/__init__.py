"""The commands about what players find and how they rise: ``odds`` and ``curve``."""
