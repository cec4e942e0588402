"""What experiments share: movement, speeds, forced fields, angles, checks."""
