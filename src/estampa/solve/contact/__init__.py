"""Contact: what is near what (find), how far apart (closest), what is done about it (respond), and a small step of all
that (watch).

Everything that may touch lies in one soup of points, edges and triangles (soup): cloths, and obstacles that nothing
moves back. A ball is a point with a radius, a capsule an edge with one.
"""
