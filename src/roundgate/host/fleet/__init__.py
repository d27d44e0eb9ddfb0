"""Several servers of a site together."""
