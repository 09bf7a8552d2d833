"""What a line is: measurements, the public address, the situation, neighbours."""
