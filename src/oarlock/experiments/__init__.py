"""What is asked of a drive, and what is read off the record that comes back."""
