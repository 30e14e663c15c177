"""Declarations: channels, the kinds that have them, and where kinds are found."""
