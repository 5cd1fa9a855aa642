"""Linux, macOS, and what is like them."""
