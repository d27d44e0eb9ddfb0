"""The commands about several servers on one machine."""
