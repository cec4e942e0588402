"""The window around the stages: top bar, rail, strip, logbook, palette, messages."""
