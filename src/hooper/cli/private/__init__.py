"""Commands for private access."""
