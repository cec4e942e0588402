"""One folder for each stage: its screen, pictures and widgets."""
