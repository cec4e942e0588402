"""Discrete control loops: analysis, design, figures of a step response, the firmware's PI."""
