"""Meshes, weight maps, primitives: plain arrays and functions on them."""
