"""Damaged input for every decoder: it has to give a value, or the codec's own error, and nothing else."""
