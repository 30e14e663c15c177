"""The window itself: its frame, its commands, dialogs, files, looks."""
