"""The machine, its inverter and a firmware-like controller, in time."""
