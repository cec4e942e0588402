"""The open project: document, history, staleness, jobs, and what the views show; no Qt."""
