"""Names in files that were other ones once, so that what is older is read."""

COLUMNS = {"place": "position", "speed": "velocity", "heat": "temperature", "press": "pressure"}  # up to version 4
CHANNELS = {"swarm": {"least": "min_turn_speed"}, "liquid": {"fine": "max_compression"}}  # by kind, up to version 4
