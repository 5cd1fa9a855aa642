"""Tests that run with a Windows Python alone; see `tests/test_other_systems.py`."""
