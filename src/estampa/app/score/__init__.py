"""The score: the roster, its lanes in time, and the curves."""
