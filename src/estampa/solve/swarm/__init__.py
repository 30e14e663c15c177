"""Swarms: grains that are born, guided by layers in a stack, and dressed."""
