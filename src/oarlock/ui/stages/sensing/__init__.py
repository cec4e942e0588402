"""The screen of the stage Sensing."""
