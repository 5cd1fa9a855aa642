"""Templates with braces: written to make a path, read to take a name apart."""
