"""The limits of a scene: one table, asked by every edit, by every save, and by the gate that a file goes through
(`limit_checks.py`).

So an edit cannot make what no file may hold: it is refused at once, by name, and the scene stays as it was.
"""

MOST_THINGS = 100_000
MOST_FRAMES = 200_000  # of a scene, its loop or a clip
FURTHEST_FRAME = 1_000_000  # at which a scene may begin or end
FURTHEST_KEY = 10_000_000  # frame of a key
MOST_RUN_UP = 10_000  # frames
SLOWEST, FASTEST = 0.01, 1000.0  # frames a second
LARGEST = 1e12  # of a channel's value, in its stored unit
FAR = 1e9  # m, of a point or a joint's rest
MOST_DEEP = 500  # things riding on one another, or channels reading one another
MOST_JOINTS = 20_000  # of one skeleton
MOST_KEYS = 100_000  # on one channel
MOST_SPOTS = 100_000  # points of one path, or places of copies made by hand
MOST_PARTS = 4_000  # layers, maps, morph targets or clips of one thing
LONGEST_NAME = 1_000  # letters
LONGEST_TEXT = 100_000  # letters, of a channel that is a text
LARGEST_DESCRIPTION = 64_000_000  # bytes of a scene's description
MOST_VALUES = 4_000_000  # in a scene's description: each takes some hundred bytes once it is read
