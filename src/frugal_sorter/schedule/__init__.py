"""Running by itself: when, by which scheduler of the machine, and what is remembered of it; without a terminal."""
