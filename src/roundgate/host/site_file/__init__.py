"""The site file: its tables, and what can be wrong in them."""
