"""Open formats in and out. Each module says what it can carry."""
