"""Layers by which grains are born."""
