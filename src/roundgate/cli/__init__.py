"""Top floor: the command line. The only floor that knows Typer and Rich."""
