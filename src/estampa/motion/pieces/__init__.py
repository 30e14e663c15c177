"""Layers that move the pieces of a mesh as wholes, without memory."""
