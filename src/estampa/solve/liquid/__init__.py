"""Liquids: grains that keep their volume."""
