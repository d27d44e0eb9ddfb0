"""Record sets: rows of one kind with typed fields, wherever they are in a file."""
