"""Hooper: from a box on the shelf to a service that answers from anywhere."""

__version__ = "0.2.0"
