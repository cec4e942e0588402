"""Sensors, offsets, phase order, angle and halls, before any loop is closed."""
