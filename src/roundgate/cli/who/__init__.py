"""Who is who, who is where, and who may do what."""
