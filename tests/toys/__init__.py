"""One file for each thing that may be added: what a newcomer would write, and nothing else."""
