"""Test signals of the control loops, and what is read off their answers."""
