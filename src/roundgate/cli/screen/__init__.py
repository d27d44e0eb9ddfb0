"""From plain values to what a person, or a program, reads."""
