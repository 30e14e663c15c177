"""What the window works on, without widgets."""
