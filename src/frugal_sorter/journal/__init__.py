"""What was meant and what was done, kept for as long as it can be taken back."""
