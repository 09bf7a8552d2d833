"""The command line: it parses, calls and renders, and does nothing else."""

__all__ = ("main",)
