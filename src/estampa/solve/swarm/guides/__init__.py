"""Layers that guide grains."""
