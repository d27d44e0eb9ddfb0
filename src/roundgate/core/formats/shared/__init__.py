"""What several formats have in common: documents of keys, large files, brackets, repairs, comments."""
