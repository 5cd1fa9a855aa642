"""Frugal Sorter: folder rules that sort files, and can be taken back."""

__version__ = "0.1.0"
