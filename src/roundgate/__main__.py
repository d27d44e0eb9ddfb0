"""``python -m roundgate`` runs the program."""

from roundgate.cli.main import main

main()
