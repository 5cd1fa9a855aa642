"""How results look: the screen, tables, plans, JSON, CSV and HTML."""
