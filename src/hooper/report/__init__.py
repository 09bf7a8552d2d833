"""Pages and figures: what is printed or kept."""
