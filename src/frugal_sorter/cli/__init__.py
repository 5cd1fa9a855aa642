"""Arguments and text: the only package that prints, asks, or knows a terminal."""
