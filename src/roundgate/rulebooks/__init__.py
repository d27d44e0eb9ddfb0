"""The bundled rulebooks: data only."""
