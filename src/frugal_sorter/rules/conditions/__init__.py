"""Conditions: the grammar, the tree, the operators, and the generated matcher."""
