"""Commands for what is wanted: the site file, the line, the devices, the plan."""
