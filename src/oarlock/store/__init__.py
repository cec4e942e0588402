"""The project file: axis states, logbook, records, and what was on screen."""
