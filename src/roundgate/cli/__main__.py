"""``python -m roundgate.cli`` runs the program."""

from roundgate.start import drop_working_folder, main

drop_working_folder()
main()
