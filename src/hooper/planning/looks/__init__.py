"""What is wrong or worth knowing: one module for each group of findings. Pure."""

__all__ = ("line", "router", "tunnel")
