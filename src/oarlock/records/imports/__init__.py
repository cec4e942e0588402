"""Recordings from other benches: any table of numbers, its columns and units."""
