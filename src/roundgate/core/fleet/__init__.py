"""Several servers on one machine: what each is promised, what clashes, and what is free."""
