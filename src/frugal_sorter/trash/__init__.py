"""The trash of the desktop: where it is, and what lies in it."""
