"""Unattended runs: when, by which scheduler of the machine, and what is remembered of it; without a terminal."""
