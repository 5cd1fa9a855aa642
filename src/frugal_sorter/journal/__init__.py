"""Intents and outcomes, kept for as long as they can be taken back."""
