"""The Rehearse stage."""
