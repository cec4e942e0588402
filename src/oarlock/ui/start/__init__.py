"""The start page: what was open before, a new project, the demo."""
