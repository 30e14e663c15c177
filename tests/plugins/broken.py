"""A plug-in that is broken on purpose."""

raise RuntimeError("left half-way")
