"""What can be asked of a drive, and the link that asks it."""
