"""Gravity, wind, ground: what a solver feels, sampled at points."""
