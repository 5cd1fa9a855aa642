"""The trash of the desktop: where it is, and what is in it."""
