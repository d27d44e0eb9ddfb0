"""Ground floor: bytes and plain values in, plain values out. No files, clock, processes, network or printing."""
