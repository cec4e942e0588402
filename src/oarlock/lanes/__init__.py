"""Loops that work on one thing, spread over vectors of eight: the same source, the same bits."""
