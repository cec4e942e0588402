"""The Speed loop stage."""
