"""The document: things, channels, curves, history and the scene file."""
