"""Carrying plans out, recovering after a crash, and taking runs back."""
