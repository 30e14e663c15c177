"""Layers with memory: each frame is made from the one before."""
