"""Solved frames on disk, addressed by content."""
