"""One verb, one module: what a step of it needs, how it is done, how it ended after a crash, and its inverse."""
