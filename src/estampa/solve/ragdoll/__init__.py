"""Ragdolls: position-based rigid bodies with joints, limits and springs, that never gain energy.

`figures` -- the arrays in which limbs of all figures stand; `joints` and `contacts` -- what holds and what meets them;
`advance` -- the small steps. `build` makes the arrays from skeletons, and `coupling` lets limbs push the bodies of the
engine and be pushed by them.
"""
