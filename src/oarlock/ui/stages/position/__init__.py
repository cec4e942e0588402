"""The screen of the stage Position loop."""
