"""Layers without memory that move the joints of a skeleton."""
