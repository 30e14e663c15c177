"""From motion that is worked out to keys that are edited by hand."""
