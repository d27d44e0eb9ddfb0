"""What Round Gate knows of one game's server: the model, its reading and layering, and the rule expressions."""
