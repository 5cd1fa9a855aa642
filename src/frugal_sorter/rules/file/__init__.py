"""Loading a rule file: keys and their values, positions, mistakes."""
