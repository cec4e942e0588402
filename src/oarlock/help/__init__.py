"""One short page for each stage, shown with F1."""
