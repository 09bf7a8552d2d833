"""Where the public address comes from, publishing it, verifying it."""
