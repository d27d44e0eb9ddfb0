"""Servers on rented machines: their files are reached by a file service, and somebody else starts and stops them."""
