"""The screen of the stage Machine."""
