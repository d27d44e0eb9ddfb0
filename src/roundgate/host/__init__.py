"""First floor: everything that touches the machine. It knows the core and nothing of the command line."""
