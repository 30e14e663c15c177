"""Layers without memory: pure functions of (input shape, channels, frame)."""
