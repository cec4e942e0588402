"""The screen of the stage Current loop."""
