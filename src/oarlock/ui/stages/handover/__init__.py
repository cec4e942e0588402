"""The screen of the stage Handover."""
