"""Experiments (settings to steps) and estimators (record to finding)."""
