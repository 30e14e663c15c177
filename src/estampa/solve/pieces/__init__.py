"""Layers with memory that move the pieces of a mesh."""
