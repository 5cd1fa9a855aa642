"""What is on the disk; read only."""
