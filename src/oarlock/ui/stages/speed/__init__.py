"""The screen of the stage Speed loop."""
