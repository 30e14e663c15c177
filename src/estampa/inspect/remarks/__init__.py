"""Remarks: findings about a scene, each with its culprit and its cure."""
