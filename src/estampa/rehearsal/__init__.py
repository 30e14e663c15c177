"""Rehearsal: a small stand-in for a target program. It opens printed files alone, and plays them as a target would.

Nothing here may read a scene or an evaluator (a test sees to it): what is seen is what the files hold.
"""
