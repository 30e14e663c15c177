"""What acts everywhere: gravity, wind, the ground, obstacles, and the zones that bound it."""
