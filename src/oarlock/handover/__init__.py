"""Write gains into firmware configuration, and prove that they arrived unharmed."""
