"""What is wanted: the site file, the line, the devices, the plan and its sheets."""
