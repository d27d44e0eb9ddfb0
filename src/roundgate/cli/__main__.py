"""``python -m roundgate.cli`` runs the program."""

from roundgate.cli.main import main

main()
