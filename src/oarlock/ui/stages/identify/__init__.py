"""The screen of the stage Identify."""
