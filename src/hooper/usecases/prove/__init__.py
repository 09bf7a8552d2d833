"""What is proven, and why it is not so."""
