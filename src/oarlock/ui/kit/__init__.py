"""Painting, plots, numbers, theme: nothing that knows the job."""
