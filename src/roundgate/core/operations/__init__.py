"""The operations: each kind of change of a file is one module here and one line of ``registry.KINDS``."""
