"""What is said about a scene: lanes, loops, what moves in step, remarks."""
